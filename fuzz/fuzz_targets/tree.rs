//! The manifest of a layer: what is read is encoded the same, to the byte.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(tree) = cavrith_core::tree::encoding::decode(data) {
        assert_eq!(cavrith_core::tree::encoding::encode(&tree), data);
    }
});
