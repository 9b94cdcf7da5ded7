//! Streams that do not end: memory stays what it was.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

use bytes::Bytes;
use dispatcher_audio::{Codec, Effects, Format, Options, Transcoder};

/// Resident memory in KiB.
fn memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

#[test]
fn an_hour_takes_no_more_memory_than_a_minute() {
    let second: Vec<u8> = (0..8_000u32).map(|n| (n * n / 7 % 251) as u8).collect();
    let second = Bytes::from(second);
    let faster = Effects { fade_out: Some(2.0), gain: Some(-3.0), ..Effects::default() };
    for (to, effects) in [
        (Format::new(Codec::L16, 16_000), Effects::default()),
        (Format::new(Codec::Flac, 8_000), Effects::default()),
        (Format::new(Codec::Wav, 8_000), faster),
    ] {
        let options = Options { effects, ..Options::default() };
        let mut transcoder = Transcoder::with(Format::new(Codec::Mulaw, 8_000), to, options).unwrap();
        let mut after_a_minute = 0;
        let mut given = 0;
        for n in 0..3_600 {
            given += transcoder.push(&second).unwrap().len();
            if n == 60 {
                after_a_minute = memory();
            }
        }
        let grown = memory().saturating_sub(after_a_minute);
        assert!(given > 10_000_000, "{to:?}: {given} bytes");
        assert!(grown < 1_024, "{to:?}: {grown} KiB more after an hour");
        assert_eq!(transcoder.length().rate, to.rate);
    }
}
