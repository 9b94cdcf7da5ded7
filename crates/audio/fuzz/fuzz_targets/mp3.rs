#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| dispatcher_audio_fuzz::read(dispatcher_audio::Codec::Mp3, data));
