//! What fuzzing has kept of each reader (`scripts/fuzz.sh`), read once more:
//! what it has found once must not come back.

#[path = "support/any_bytes.rs"]
mod any_bytes;

use std::io::Read as _;
use std::panic::catch_unwind;

use dispatcher_audio::Codec;

/// Reads every input of a reader's corpus; gives how many.
fn read_corpus(reader: &str, codec: Codec) -> usize {
    let path = format!("{}/fuzz/corpus/{reader}.zip", env!("CARGO_MANIFEST_DIR"));
    let mut corpus = zip::ZipArchive::new(std::fs::File::open(path).unwrap()).unwrap();
    for number in 0..corpus.len() {
        let mut input = corpus.by_index(number).unwrap();
        let name = format!("{:?}", input.name());
        let mut bytes = Vec::new();
        input.read_to_end(&mut bytes).unwrap();
        assert!(catch_unwind(|| any_bytes::read(codec, &bytes)).is_ok(), "{reader}.zip: {name}");
    }
    corpus.len()
}

#[test]
fn what_fuzzing_has_kept_is_sound_or_an_error() {
    for (reader, codec) in [
        ("wav", Codec::Wav),
        ("aiff", Codec::Aiff),
        ("au", Codec::Au),
        ("mp3", Codec::Mp3),
        ("ogg", Codec::OggOpus),
        ("flac", Codec::Flac),
        ("adts", Codec::Aac),
        ("mp4", Codec::Mp4),
        ("webm", Codec::WebmOpus),
    ] {
        assert!(read_corpus(reader, codec) > 100, "{reader}");
    }
}
