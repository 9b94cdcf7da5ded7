//! Files that independent tools make are read right, and those tools read
//! ours: sox, flac, vorbis-tools, opus-tools, lame and ffmpeg, as `make test`
//! installs them.

use std::process::Command;

use crate::support::{Bench, decode};
use bytes::Bytes;
use dispatcher_audio::{AudioError, Codec, Format, Layout, Meter, Options, Tags, Transcoder, decode_all, encode_all};

#[test]
fn plain_samples_of_every_container_are_read_to_the_bit() {
    for bench in [Bench::new(24_000, 1), Bench::new(44_100, 2)] {
        for (options, file, codec, decibels) in [
            ("-b 8 -e unsigned", "u8.wav", Codec::Wav, 28.0),
            ("-b 24", "24.wav", Codec::Wav, 75.0),
            ("-b 32", "32.wav", Codec::Wav, 75.0),
            ("-b 32 -e float", "f.wav", Codec::Wav, 75.0),
            ("-e mu-law", "u.wav", Codec::Wav, 30.0),
            ("-e a-law", "a.wav", Codec::Wav, 30.0),
            ("-b 16", "16.aiff", Codec::Aiff, 75.0),
            ("-b 24", "24.aiff", Codec::Aiff, 75.0),
            ("-b 8", "8.aiff", Codec::Aiff, 28.0),
            ("-b 16 -t aifc", "c.aifc", Codec::Aiff, 75.0),
            ("-b 16", "16.au", Codec::Au, 75.0),
            ("-b 32 -e float", "f.au", Codec::Au, 75.0),
            ("-e mu-law", "u.au", Codec::Au, 30.0),
            ("-e a-law", "a.au", Codec::Au, 30.0),
        ] {
            bench.run(&format!("sox -D in.wav {options} {file}"));
            let (samples, layout) = decode(&bench.path(file), codec);
            let (surplus, ratio, shift) = bench.compare(&samples, layout, 2);
            assert_eq!((surplus, shift), (0, 0), "{file}");
            assert!(ratio > decibels, "{file}: {ratio} dB");
        }
    }
}

#[test]
fn lossless_files_are_read_to_the_bit() {
    for bench in [Bench::new(24_000, 1), Bench::new(44_100, 2)] {
        for (line, file, codec) in [
            ("flac -s -0 in.wav -o 0.flac", "0.flac", Codec::Flac),
            ("flac -s -8 -T TITLE=Quay in.wav -o 8.flac", "8.flac", Codec::Flac),
            ("flac -s --blocksize=192 in.wav -o small.flac", "small.flac", Codec::Flac),
            ("flac -s --ogg in.wav -o in.oga", "in.oga", Codec::OggFlac),
            ("ffmpeg -v error -i in.wav -c:a flac in.mka", "in.mka", Codec::WebmOpus),
        ] {
            bench.run(line);
            let (samples, layout) = decode(&bench.path(file), codec);
            let (surplus, ratio, shift) = bench.compare(&samples, layout, 2);
            assert_eq!((surplus, shift), (0, 0), "{file}");
            assert!(ratio > 75.0, "{file}: {ratio} dB");
        }
    }
}

#[test]
fn coded_files_are_read_at_their_place_and_to_their_length() {
    for bench in [Bench::new(48_000, 1), Bench::new(48_000, 2)] {
        for (line, file, codec, decibels, slack) in [
            ("opusenc --quiet --bitrate 96 in.wav e.opus", "e.opus", Codec::OggOpus, 15.0, 0),
            ("oggenc -Q -q 6 in.wav -o v.ogg", "v.ogg", Codec::OggVorbis, 15.0, 0),
            ("lame --quiet -b 128 in.wav c.mp3", "c.mp3", Codec::Mp3, 15.0, 0),
            ("lame --quiet -V 2 --tt Quay in.wav v.mp3", "v.mp3", Codec::Mp3, 15.0, 0),
            ("ffmpeg -v error -i in.wav -c:a aac -b:a 128k end.m4a", "end.m4a", Codec::Mp4, 15.0, 0),
            (
                "ffmpeg -v error -i in.wav -c:a aac -b:a 128k -movflags faststart front.m4a",
                "front.m4a",
                Codec::Mp4,
                15.0,
                0,
            ),
            // A file in fragments tells nothing of its encoder's delay.
            (
                "ffmpeg -v error -i in.wav -c:a aac -b:a 128k -movflags frag_keyframe+empty_moov -frag_duration 500000 f.mp4",
                "f.mp4",
                Codec::Mp4,
                15.0,
                2_048,
            ),
            ("ffmpeg -v error -i in.wav -c:a libopus -b:a 96k o.mp4", "o.mp4", Codec::Mp4, 15.0, 0),
            ("ffmpeg -v error -i in.wav -c:a libopus -b:a 96k o.webm", "o.webm", Codec::WebmOpus, 15.0, 0),
            ("ffmpeg -v error -i in.wav -c:a libvorbis -q:a 6 v.webm", "v.webm", Codec::WebmOpus, 15.0, 2_048),
            ("ffmpeg -v error -i in.wav -c:a aac -b:a 128k a.aac", "a.aac", Codec::Aac, 15.0, 2_112),
        ] {
            bench.run(line);
            let (samples, layout) = decode(&bench.path(file), codec);
            let (surplus, ratio, shift) = bench.compare(&samples, layout, i64::max(slack, 4));
            assert!((0..=slack).contains(&surplus), "{file}: {surplus} frames too many");
            assert!(shift.abs() <= slack && ratio > decibels, "{file}: {ratio} dB at {shift}");
        }
    }
}

#[test]
fn a_chain_of_streams_is_one_sound() {
    let bench = Bench::new(48_000, 1);
    bench.run("opusenc --quiet --bitrate 64 in.wav a.opus");
    bench.run("opusenc --quiet --bitrate 96 --framesize 40 in.wav b.opus");
    let chain = [std::fs::read(bench.path("a.opus")).unwrap(), std::fs::read(bench.path("b.opus")).unwrap()].concat();
    std::fs::write(bench.path("chain.opus"), chain).unwrap();
    let (samples, _) = decode(&bench.path("chain.opus"), Codec::OggOpus);
    assert_eq!(samples.len(), bench.frames() * 2);
    let (_, ratio, shift) = bench.compare(&samples[bench.frames()..], Layout { rate: 48_000, channels: 1 }, 4);
    assert!(ratio > 15.0 && shift == 0, "the second: {ratio} dB at {shift}");
}

#[test]
fn a_second_sound_of_another_rate_or_channels_is_heard_as_the_first() {
    let bench = Bench::new(24_000, 1);
    bench.run("oggenc -Q -q 8 in.wav -o one.ogg");
    bench.run("sox -D in.wav -r 44100 -c 2 wide.wav");
    bench.run("oggenc -Q -q 8 wide.wav -o two.ogg");
    bench.run("lame --quiet -t -b 96 in.wav one.mp3");
    bench.run("lame --quiet -t -b 96 --resample 24 -m j wide.wav two.mp3");
    for (first, second, codec, exact) in
        [("one.ogg", "two.ogg", Codec::OggVorbis, true), ("one.mp3", "two.mp3", Codec::Mp3, false)]
    {
        let both: Vec<u8> = [first, second].iter().flat_map(|file| std::fs::read(bench.path(file)).unwrap()).collect();
        let (alone, _) = decode_all(&std::fs::read(bench.path(first)).unwrap(), Format::new(codec, 24_000)).unwrap();
        std::fs::write(bench.path("both"), both).unwrap();
        let (samples, layout) = decode(&bench.path("both"), codec);
        // The encoder of MP3 leaves its delay, which is not told here.
        let (_, ratio, shift) = bench.compare(&samples[alone.len()..], layout, if exact { 4 } else { 2_304 });
        assert!(ratio > 15.0, "{second} behind {first}: {ratio} dB at {shift}");
        // To 44.1 kHz and back is a frame more, at most.
        let surplus = samples.len() - 2 * bench.frames();
        assert!(!exact || (shift == 0 && surplus <= 1), "{second}: {surplus} frames too many, at {shift}");
    }
}

#[test]
fn every_cut_of_a_file_is_an_error_and_never_a_panic() {
    let bench = Bench::new(24_000, 1);
    for (line, file, codec) in [
        ("flac -s in.wav -o in.flac", "in.flac", Codec::Flac),
        ("opusenc --quiet in.wav in.opus", "in.opus", Codec::OggOpus),
        ("oggenc -Q in.wav -o in.ogg", "in.ogg", Codec::OggVorbis),
        ("ffmpeg -v error -i in.wav -c:a aac in.m4a", "in.m4a", Codec::Mp4),
        ("ffmpeg -v error -i in.wav -c:a libopus in.webm", "in.webm", Codec::WebmOpus),
        ("sox in.wav in.aiff", "in.aiff", Codec::Aiff),
        ("sox in.wav in.au", "in.au", Codec::Au),
    ] {
        bench.run(line);
        let whole = std::fs::read(bench.path(file)).unwrap();
        let told = Format::new(codec, 24_000);
        assert!(decode_all(&whole, told).is_ok(), "{file}");
        let step = whole.len() / 60 + 1;
        for cut in (0..whole.len()).step_by(step).chain([whole.len() - 1]) {
            assert!(decode_all(&whole[..cut], told).is_err(), "{file}: {cut} of {} bytes looked whole", whole.len());
        }
        for at in (0..whole.len()).step_by(step / 3 + 1) {
            let mut damaged = whole.clone();
            damaged[at] ^= 0x55;
            // An error or sound: never a panic.
            let _ = decode_all(&damaged, told);
        }
    }
}

#[test]
fn those_tools_read_what_we_write() {
    for bench in [Bench::new(48_000, 1), Bench::new(16_000, 2)] {
        for (codec, file, line, decibels, slack) in [
            (Codec::Wav, "o.wav", "sox -D o.wav back.wav", 75.0, 0),
            (Codec::WavMulaw, "u.wav", "sox -D u.wav -e signed -b 16 back.wav", 30.0, 0),
            (Codec::WavAlaw, "a.wav", "sox -D a.wav -e signed -b 16 back.wav", 30.0, 0),
            (Codec::Flac, "o.flac", "flac -s -d -f o.flac -o back.wav", 75.0, 0),
            (Codec::OggOpus, "o.opus", "opusdec --quiet --force-wav --rate RATE o.opus back.wav", 8.0, 1),
            (Codec::WebmOpus, "o.webm", "ffmpeg -v error -xerror -y -i o.webm -ar RATE back.wav", 8.0, 2),
            (Codec::Mp3, "o.mp3", "ffmpeg -v error -xerror -y -i o.mp3 back.wav", 10.0, 3_000),
        ] {
            let bitrate = match codec {
                Codec::OggOpus | Codec::WebmOpus => Some(96_000),
                Codec::Mp3 => Some(128_000),
                _ => None,
            };
            let format = Format { channels: bench.channels, bitrate, ..Format::new(codec, bench.rate) };
            std::fs::write(bench.path(file), encode_all(&bench.sound, format).unwrap()).unwrap();
            bench.run(&line.replace("RATE", &bench.rate.to_string()));
            let (samples, layout) = decode(&bench.path("back.wav"), Codec::Wav);
            // The coder for voices moves waves about by parts of a millisecond.
            let reach = i64::max(slack, i64::from(bench.rate) / 1_000);
            let (surplus, ratio, shift) = bench.compare(&samples, layout, reach);
            assert!(surplus.abs() <= slack, "{file}: {surplus} frames off");
            assert!(shift.abs() < reach && ratio > decibels, "{file}: {ratio} dB at {shift}");
        }
        bench.run("flac -s -t o.flac");
    }
}

#[test]
fn a_few_bytes_do_not_become_hours_unless_they_may() {
    // Silence: some 30 bytes a second.
    let bench = Bench::new(8_000, 1);
    bench.run("sox -D -n -r 8000 -b 16 silence.flac trim 0 2400");
    let silence = std::fs::read(bench.path("silence.flac")).unwrap();
    let (format, pcm) = (Format::new(Codec::Flac, 8_000), Format::new(Codec::Pcm, 8_000));
    let mut transcoder = Transcoder::new(format, pcm).unwrap();
    let error = silence.chunks(4_096).find_map(|piece| transcoder.push(&Bytes::copy_from_slice(piece)).err());
    assert!(matches!(error, Some(AudioError::TooLong { .. })), "{error:?} of {} bytes", silence.len());
    assert!(matches!(Meter::new(format).unwrap().push(&silence), Err(AudioError::TooLong { .. })));
    let options = Options { any_length: true, ..Options::default() };
    let mut transcoder = Transcoder::with(format, pcm, options).unwrap();
    let mut bytes = 0;
    for piece in silence.chunks(4_096) {
        bytes += transcoder.push(&Bytes::copy_from_slice(piece)).unwrap().len();
    }
    bytes += transcoder.finish().unwrap().len();
    assert_eq!(bytes, 2 * 8_000 * 2_400);
}

/// What ffmpeg reads of a file's tags, as `key=value` lines in small letters.
fn tags_by_ffprobe(bench: &Bench, name: &str) -> String {
    let output = Command::new("ffprobe")
        .args(["-v", "error", "-show_entries", "format_tags:stream_tags", "-of", "default=nw=1", name])
        .current_dir(bench.folder.path())
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).to_lowercase()
}

#[test]
fn tags_are_read_by_others_and_theirs_by_us() {
    let bench = Bench::new(24_000, 1);
    let tags = Tags {
        title: Some("Partida às 06:15".into()),
        track: Some("3/12".into()),
        language: Some("pt-PT".into()),
        engine: Some("heron".into()),
        voice: Some("heron/marisol".into()),
        date: Some("2026-11-25".into()),
        synthetic: true,
        provenance: None,
    };
    let pcm = Format::new(Codec::Pcm, 24_000);
    let raw = Bytes::from(encode_all(&bench.sound, pcm).unwrap());
    for (name, codec) in [
        ("t.mp3", Codec::Mp3),
        ("t.opus", Codec::OggOpus),
        ("t.webm", Codec::WebmOpus),
        ("t.flac", Codec::Flac),
        ("t.wav", Codec::Wav),
    ] {
        let options = Options { tags: tags.clone(), ..Options::default() };
        let mut transcoder = Transcoder::with(pcm, Format::new(codec, 24_000), options).unwrap();
        let mut file = transcoder.push(&raw).unwrap().to_vec();
        file.extend(transcoder.finish().unwrap());
        if let Some(start) = transcoder.start() {
            file[..start.len()].copy_from_slice(&start);
        }
        std::fs::write(bench.path(name), file).unwrap();
        let read = tags_by_ffprobe(&bench, name);
        assert!(read.contains("title=partida às 06:15"), "{name}: {read}");
        assert!(read.contains("2026-11-25"), "{name}: {read}");
        assert!(read.contains("synthetic_speech"), "{name}: {read}");
        let language = if codec == Codec::Mp3 { "tag:language=por" } else { "tag:language=pt-pt" };
        assert!(read.contains(language), "{name}: {read}");
        // And the other way: a file whose tags ffmpeg wrote.
        let other = format!("f-{name}");
        bench.run(&format!("ffmpeg -v error -i in.wav -metadata title=Maré -metadata date=2026 {other}"));
        let mut meter = Meter::new(Format::new(codec, 24_000)).unwrap();
        meter.push(&std::fs::read(bench.path(&other)).unwrap()).unwrap();
        meter.finish().unwrap();
        assert_eq!(meter.tags().title.as_deref(), Some("Maré"), "{other}");
        if codec != Codec::WebmOpus {
            assert_eq!(meter.tags().date.as_deref(), Some("2026"), "{other}");
        }
    }
}

#[test]
fn mp3_of_every_rate_is_gapless_for_other_players_too() {
    for (rate, channels) in [(8_000, 1), (16_000, 1), (24_000, 1), (44_100, 2), (48_000, 1)] {
        let bench = Bench::new(rate, channels);
        for format in [
            Format { channels, ..Format::new(Codec::Mp3, rate) },
            Format { channels, vbr: true, ..Format::new(Codec::Mp3, rate) },
        ] {
            std::fs::write(bench.path("ours.mp3"), encode_all(&bench.sound, format).unwrap()).unwrap();
            bench.run("ffmpeg -v error -y -i ours.mp3 -c:a pcm_s16le back.wav");
            let (samples, layout) = decode(&bench.path("back.wav"), Codec::Wav);
            let (surplus, ratio, shift) = bench.compare(&samples, layout, 3);
            assert_eq!((surplus, shift), (0, 0), "{format:?} by ffmpeg");
            assert!(ratio > 8.0, "{format:?}: {ratio} dB");
            let seconds = Command::new("ffprobe")
                .args(["-v", "error", "-show_entries", "format=duration", "-of", "csv=p=0", "ours.mp3"])
                .current_dir(bench.folder.path())
                .output()
                .unwrap();
            let seconds: f64 = String::from_utf8_lossy(&seconds.stdout).trim().parse().unwrap();
            let wanted = bench.frames() as f64 / f64::from(rate);
            // It counts whole frames, delay and padding included.
            let frame = if rate > 24_000 { 1_152.0 } else { 576.0 } / f64::from(rate);
            let surplus = (seconds - wanted) / frame;
            assert!((0.0..3.2).contains(&surplus), "{format:?}: told as {seconds} s, {wanted} s long");
        }
    }
}

#[test]
fn aac_in_matroska_is_read() {
    for bench in [Bench::new(16_000, 1), Bench::new(44_100, 2)] {
        bench.run("ffmpeg -v error -y -i in.wav -c:a aac -b:a 128k in.mkv");
        let (samples, layout) = decode(&bench.path("in.mkv"), Codec::WebmOpus);
        let (surplus, ratio, shift) = bench.compare(&samples, layout, 1_100);
        // The encoder's delay of 1,024 frames stays, and its last frame is whole.
        assert!((0..=3 * 1_024).contains(&surplus), "{surplus} frames too many");
        assert_eq!(shift, 1_024);
        assert!(ratio > 20.0, "{ratio} dB");
    }
}
