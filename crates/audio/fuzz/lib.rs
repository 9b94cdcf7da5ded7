//! What the fuzz targets share.

#[path = "../tests/support/any_bytes.rs"]
mod any_bytes;

use dispatcher_audio::Codec;

/// A panic that the library catches is no finding; one that gets out of it
/// still ends the run.
fn let_panics_be_caught() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| std::panic::set_hook(Box::new(|_| {})));
}

/// Reads the bytes as the codec: in pieces, whose size the first byte tells.
pub fn read(codec: Codec, data: &[u8]) {
    let_panics_be_caught();
    any_bytes::read(codec, data);
}
