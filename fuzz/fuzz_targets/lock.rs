//! The text of a lock: what is read is written the same.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data)
        && let Ok(lock) = cavrith_core::lock::Lock::parse(text)
    {
        assert_eq!(cavrith_core::lock::Lock::parse(&lock.to_text()), Ok(lock));
    }
});
