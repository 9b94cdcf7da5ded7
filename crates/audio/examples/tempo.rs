fn main() {
    for path in std::env::args().skip(1) {
        let bytes = std::fs::read(&path).unwrap();
        let mut meter =
            dispatcher_audio::TempoMeter::new(dispatcher_audio::Format::new(dispatcher_audio::Codec::Wav, 16_000))
                .unwrap();
        let _ = meter.push(&bytes);
        println!("{path} {:?}", meter.finish().ok().flatten());
    }
}
