//! What somebody says at a keeper's door: any bytes at all.
#![no_main]

use std::io::Write as _;
use std::os::unix::net::UnixStream;

use cavrith_sandbox::wire;
use cavrith_keeper::protocol::{Answer, Meanwhile, Opening, Request};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let (mut theirs, ours) = UnixStream::pair().unwrap();
    theirs.set_write_timeout(Some(std::time::Duration::from_millis(100))).unwrap();
    let _ = theirs.write_all(data);
    drop(theirs);
    // The first is an opening; what follows is said meanwhile.
    if let Ok(Some((opening, _))) = wire::receive::<Opening<serde_json::Value>>(&ours) {
        let _ = serde_json::from_value::<Request>(opening.request);
        while let Ok(Some(_)) = wire::receive::<Meanwhile>(&ours) {}
    }
    let _ = serde_json::from_slice::<Answer>(data);
});
