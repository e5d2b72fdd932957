//! Frames on a stream: four bytes of length, little-endian, and so many bytes.

use std::io::{self, Read, Write};

use cavrith_core::synced::wire::{BadFrame, Frame, LONGEST};

/// Bytes that mean nothing.
pub(crate) fn bad(error: BadFrame) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, error)
}

/// Sends one.
pub(crate) fn send(frame: &impl Frame, to: &mut impl Write) -> io::Result<()> {
    let bytes = frame.encode();
    let length = u32::try_from(bytes.len()).map_err(io::Error::other)?;
    to.write_all(&length.to_le_bytes())?;
    to.write_all(&bytes)
}

/// Receives one; nothing when the other end has ended.
pub(crate) fn receive<F: Frame>(from: &mut impl Read) -> io::Result<Option<F>> {
    let mut length = [0; 4];
    match from.read_exact(&mut length) {
        Ok(()) => {}
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        Err(error) => return Err(error),
    }
    let length = u32::from_le_bytes(length);
    if length > LONGEST {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "a frame of a synced folder is longer than any may be"));
    }
    let mut bytes = vec![0; length as usize];
    from.read_exact(&mut bytes)?;
    F::decode(&bytes).map(Some).map_err(bad)
}

#[cfg(test)]
mod tests {
    use cavrith_core::synced::wire::Ask;

    use super::*;

    #[test]
    fn a_frame_is_heard_as_it_was_said_and_a_long_one_takes_no_memory() {
        let mut bytes = Vec::new();
        send(&Ask::Flush, &mut bytes).unwrap();
        send(&Ask::Persist, &mut bytes).unwrap();
        let mut from = bytes.as_slice();
        assert_eq!(receive::<Ask>(&mut from).unwrap(), Some(Ask::Flush));
        assert_eq!(receive::<Ask>(&mut from).unwrap(), Some(Ask::Persist));
        assert_eq!(receive::<Ask>(&mut from).unwrap(), None);
        assert!(receive::<Ask>(&mut &bytes[..bytes.len() - 1].to_vec()[5..]).is_err());
        assert!(receive::<Ask>(&mut &[255u8, 255, 255, 255, 0][..]).unwrap_err().to_string().contains("longer"));
    }
}
