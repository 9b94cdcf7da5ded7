//! Files as they are met with: made through a pipe, behind tags, beside
//! pictures, torn at the front, of codings that are rare; and what is no sound.

use crate::support::{Bench, decode};
use dispatcher_audio::{AudioError, Codec, Format, Layout, decode_all, measure, sniff};

/// Made by a tool, read as a stream, and as the sound it was made of: to the
/// frame, or with so many frames of the coder's own before or behind it.
#[track_caller]
fn is_read(bench: &Bench, line: &str, codec: Codec, decibels: f32, slack: i64) {
    let file = line.split_whitespace().last().unwrap();
    bench.run(line);
    let (samples, layout) = decode(&bench.path(file), codec);
    let (surplus, ratio, shift) = bench.compare(&samples, layout, slack.max(4));
    assert!((0..=slack).contains(&surplus), "{file}: {surplus} frames too many");
    assert!((0..=slack).contains(&shift) && ratio > decibels, "{file}: {ratio} dB at {shift}");
}

/// What is wrong with a file, in words.
fn fault(bytes: &[u8], told: Codec) -> String {
    match decode_all(bytes, Format::new(told, 24_000)) {
        Err(error) => error.to_string(),
        Ok((samples, layout)) => panic!("{} samples were read of it, {layout:?}", samples.len()),
    }
}

#[test]
fn rare_forms_of_plain_sound_are_read_to_the_bit() {
    for bench in [Bench::new(44_100, 2), Bench::new(22_050, 1)] {
        for (codec, file, options) in [
            // Lengths of 64 bits (EBU Tech 3306), and what broadcasters add.
            (Codec::Wav, "long.wav", "-rf64 always"),
            (Codec::Wav, "broadcast.wav", "-write_bext 1 -metadata description=Quay"),
            (Codec::Wav, "double.wav", "-c:a pcm_f64le"),
            (Codec::Aiff, "little.aiff", "-c:a pcm_s16le"),
            (Codec::Aiff, "float.aifc", "-f aiff -c:a pcm_f32be"),
            (Codec::Aiff, "double.aifc", "-f aiff -c:a pcm_f64be"),
            (Codec::Au, "wide.au", "-c:a pcm_s24be"),
            (Codec::Au, "double.au", "-c:a pcm_f64be"),
            (Codec::Flac, "wide.flac", "-c:a flac -sample_fmt s32"),
        ] {
            is_read(&bench, &format!("ffmpeg -v error -y -i in.wav {options} {file}"), codec, 75.0, 0);
        }
        // The other byte order, headers included.
        for (codec, file, options) in [(Codec::Wav, "other.wav", "-t wav -B"), (Codec::Au, "other.au", "-t au -L")] {
            is_read(&bench, &format!("sox -D in.wav {options} {file}"), codec, 75.0, 0);
        }
        // The name of 24 bits in films, which no tool here writes.
        bench.run("sox -D in.wav -b 24 -t aifc wide.aifc");
        let mut wide = std::fs::read(bench.path("wide.aifc")).unwrap();
        let name = wide.windows(4).position(|four| four == b"NONE").unwrap();
        wide[name..name + 4].copy_from_slice(b"in24");
        let (samples, layout) = decode_all(&wide, Format::new(Codec::Aiff, 24_000)).unwrap();
        assert!(matches!(bench.compare(&samples, layout, 4), (0, ratio, 0) if ratio > 75.0));
        for file in ["mulaw", "alaw"] {
            let line = format!("ffmpeg -v error -y -i in.wav -f aiff -c:a pcm_{file} {file}.aifc");
            is_read(&bench, &line, Codec::Aiff, 35.0, 0);
        }
    }
}

#[test]
fn sound_through_a_pipe_ends_where_it_ends() {
    let bench = Bench::new(16_000, 1);
    for (line, codec, decibels) in [
        ("sox -D in.wav -t wav -", Codec::Wav, 75.0),
        ("sox -D in.wav -t au -", Codec::Au, 75.0),
        ("ffmpeg -v error -i in.wav -f wav -", Codec::Wav, 75.0),
        ("flac -s -c in.wav", Codec::Flac, 75.0),
        ("ffmpeg -v error -i in.wav -f flac -", Codec::Flac, 75.0),
    ] {
        std::fs::write(bench.path("piped"), bench.output(line)).unwrap();
        let (samples, layout) = decode(&bench.path("piped"), codec);
        let (surplus, ratio, shift) = bench.compare(&samples, layout, 4);
        assert_eq!((surplus, shift), (0, 0), "{line}");
        assert!(ratio > decibels, "{line}: {ratio} dB");
    }
    let bench = Bench::new(48_000, 1);
    let live = bench.output("ffmpeg -v error -i in.wav -c:a libopus -b:a 64k -f webm -live 1 -");
    std::fs::write(bench.path("live.webm"), live).unwrap();
    let (samples, layout) = decode(&bench.path("live.webm"), Codec::WebmOpus);
    let (surplus, ratio, _) = bench.compare(&samples, layout, 4);
    assert!(surplus == 0 && ratio > 15.0, "{surplus} frames too many, {ratio} dB");
}

#[test]
fn mp3_of_every_kind_is_read_at_its_place() {
    for bench in [Bench::new(44_100, 2), Bench::new(22_050, 1), Bench::new(8_000, 1)] {
        let kbit = [(44_100, 160), (22_050, 64), (8_000, 24)].iter().find(|(rate, _)| *rate == bench.rate).unwrap().1;
        // Each with a check sum, of two channels apart, of another bit rate in
        // each frame: the tag frame tells where the sound begins and ends.
        for (options, file) in [("-b RATE -p", "sum.mp3"), ("-b RATE -m j", "joint.mp3"), ("--abr RATE", "average.mp3")]
        {
            let line = format!("lame --quiet {} in.wav {file}", options.replace("RATE", &kbit.to_string()));
            is_read(&bench, &line, Codec::Mp3, 15.0, 0);
        }
        // Without one nobody knows how long the encoder's delay was.
        is_read(&bench, &format!("lame --quiet -b {kbit} -t in.wav bare.mp3"), Codec::Mp3, 15.0, 2_305);
    }
}

#[test]
fn tags_and_pictures_before_and_behind_are_no_sound() {
    let bench = Bench::new(44_100, 1);
    bench.run("ffmpeg -v error -f lavfi -i color=c=red:s=300x300 -frames:v 1 quay.png");
    bench.run("lame --quiet -b 96 --ti quay.png --tt Quay --id3v2-only in.wav with.mp3");
    bench.run("lame --quiet -b 96 in.wav bare.mp3");
    bench.run("flac -s --picture=quay.png in.wav -o with.flac");
    bench.run("flac -s in.wav -o bare.flac");
    bench.run("ffmpeg -v error -i in.wav -i quay.png -map 0 -map 1 -c:v copy -disposition:v attached_pic -c:a aac -b:a 96k with.m4a");
    for (file, codec, decibels) in
        [("with.mp3", Codec::Mp3, 15.0), ("with.flac", Codec::Flac, 75.0), ("with.m4a", Codec::Mp4, 15.0)]
    {
        let (samples, layout) = decode(&bench.path(file), codec);
        let (surplus, ratio, shift) = bench.compare(&samples, layout, 4);
        assert_eq!((surplus, shift), (0, 0), "{file}");
        assert!(ratio > decibels, "{file}: {ratio} dB");
    }

    // Of ID3v2.3, longer than what is looked at to tell a file by.
    let text = [b"TIT2\0\0\0\x05\0\0\0Quay".as_slice(), &[0; 5_000]].concat();
    let length = text.len() as u32;
    let sevens = [(length >> 21) as u8, (length >> 14) as u8 & 0x7F, (length >> 7) as u8 & 0x7F, length as u8 & 0x7F];
    let front = [b"ID3\x03\0\0".as_slice(), &sevens, &text].concat();
    let back = [b"TAG".as_slice(), &[b'x'; 125]].concat();
    let ape = [b"APETAGEX\xD0\x07\0\0\x20\0\0\0\0\0\0\0\0\0\0\xA0".as_slice(), &[0; 8]].concat();
    // As large as a picture of a cover.
    let large = [&b"APETAGEX\xD0\x07\0\0\x90\x5F\x01\0\x01\0\0\0\0\0\0\xA0"[..], &[0; 8], &[7; 90_000]].concat();
    let verses = [b"LYRICSBEGIN".as_slice(), &b"the tide comes in ".repeat(20), b"000371LYRICS200"].concat();
    let mp3 = std::fs::read(bench.path("bare.mp3")).unwrap();
    let flac = std::fs::read(bench.path("bare.flac")).unwrap();
    let plain = decode_all(&mp3, Format::new(Codec::Mp3, 44_100)).unwrap();
    for (case, bytes) in [
        ("a tag in front", [front.as_slice(), &mp3].concat()),
        ("two tags in front", [front.as_slice(), &front, &mp3].concat()),
        ("a tag behind", [mp3.as_slice(), &back].concat()),
        ("both kinds behind", [mp3.as_slice(), &ape, &back].concat()),
        ("a picture behind", [mp3.as_slice(), &large, &back].concat()),
        ("a picture in front", [large.as_slice(), &mp3].concat()),
        ("verses behind", [mp3.as_slice(), &verses, &back].concat()),
        ("nothing but zeros behind", [mp3.as_slice(), &[0; 3_000]].concat()),
    ] {
        let read =
            decode_all(&bytes, Format::new(Codec::Mp3, 44_100)).unwrap_or_else(|error| panic!("{case}: {error}"));
        assert!(read == plain, "{case}: {} samples instead of {}", read.0.len(), plain.0.len());
    }
    // Where a tag claims more than there is, sound may have gone with it.
    let torn = [mp3.as_slice(), &large[..80_000]].concat();
    assert_eq!(fault(&torn, Codec::Mp3), "the MP3 ends too early: its tag is longer than what is there");
    let picture = std::fs::read(bench.path("with.mp3")).unwrap();
    let both = decode_all(&[mp3.as_slice(), &picture].concat(), Format::new(Codec::Mp3, 44_100)).unwrap().0;
    assert!(both.starts_with(&plain.0[..plain.0.len() - 2_304]), "one file behind another");
    assert!((2 * plain.0.len()..2 * plain.0.len() + 4_608).contains(&both.len()), "{} samples", both.len());
    let (samples, _) = decode_all(&[front.as_slice(), &flac].concat(), Format::new(Codec::Flac, 44_100)).unwrap();
    assert_eq!(samples.len(), bench.frames(), "a tag that FLAC has no use for");
}

#[test]
fn frames_that_begin_in_the_middle_are_found() {
    let bench = Bench::new(44_100, 1);
    bench.run("lame --quiet -b 96 -t in.wav whole.mp3");
    bench.run("ffmpeg -v error -i in.wav -c:a aac -b:a 96k whole.aac");
    for (file, codec) in [("whole.mp3", Codec::Mp3), ("whole.aac", Codec::Aac)] {
        let whole = std::fs::read(bench.path(file)).unwrap();
        let (all, _) = decode_all(&whole, Format::new(codec, 44_100)).unwrap();
        // As a recorder that is switched on late has it.
        let (late, layout) = decode_all(&whole[whole.len() / 4 + 7..], Format::new(codec, 44_100)).unwrap();
        let share = late.len() as f64 / all.len() as f64;
        assert_eq!(sniff(&whole[whole.len() / 4 + 7..]), None, "{file}: nothing but its name tells what it is");
        let (told, length) = measure(&whole[whole.len() / 4 + 7..], Some(Format::new(codec, 24_000))).unwrap();
        assert_eq!((told.codec, told.rate, length.frames), (codec, 44_100, late.len() as u64), "{file}");
        assert_eq!(layout, Layout { rate: 44_100, channels: 1 }, "{file}");
        assert!((0.7..0.78).contains(&share), "{file}: {share} of the sound is left");
    }
}

#[test]
fn damage_in_the_middle_is_stepped_over_or_told() {
    let bench = Bench::new(44_100, 1);
    bench.run("lame --quiet -b 96 in.wav in.mp3");
    bench.run("opusenc --quiet in.wav in.opus");
    bench.run("flac -s in.wav -o in.flac");
    let damaged = |file: &str, length: usize| {
        let mut bytes = std::fs::read(bench.path(file)).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle..middle + length].fill(b'U');
        bytes
    };
    // Frames of MPEG stand alone: two or three are lost.
    let whole = decode_all(&std::fs::read(bench.path("in.mp3")).unwrap(), Format::new(Codec::Mp3, 44_100)).unwrap().0;
    let holed = decode_all(&damaged("in.mp3", 500), Format::new(Codec::Mp3, 44_100)).unwrap().0;
    let lost = whole.len() - holed.len();
    assert!((1_152..=3 * 1_152).contains(&lost), "{lost} samples are lost");
    assert_eq!(
        fault(&damaged("in.opus", 20), Codec::OggOpus),
        "Ogg with a page whose check sum is wrong cannot be read"
    );
    assert_eq!(fault(&damaged("in.flac", 20), Codec::Flac), "FLAC with damage in a frame cannot be read");
    // Another sound behind it is not left out without a word.
    bench.run("lame --quiet --resample 16 in.wav other.mp3");
    let two: Vec<u8> =
        ["in.mp3", "other.mp3"].iter().flat_map(|file| std::fs::read(bench.path(file)).unwrap()).collect();
    assert_eq!(fault(&two, Codec::Mp3), "MP3 with a change of rate in the middle cannot be read");
}

#[test]
fn sound_in_ogg_is_found_beside_an_index_and_pictures_and_before_what_is_none() {
    let bench = Bench::new(48_000, 1);
    let film = "ffmpeg -v error -y -f lavfi -i testsrc=s=64x64:d=2 -i in.wav -c:v libtheora";
    is_read(&bench, "oggenc -Q -k -q 6 in.wav -o indexed.ogg", Codec::OggVorbis, 15.0, 0);
    is_read(&bench, &format!("{film} -c:a libvorbis -q:a 6 film.ogv"), Codec::OggVorbis, 15.0, 0);
    is_read(&bench, &format!("{film} -c:a libopus -b:a 64k spoken.ogv"), Codec::OggOpus, 15.0, 0);
    bench.run("ffmpeg -v error -y -f lavfi -i testsrc=s=64x64:d=1 -c:v libtheora mute.ogv");
    let mute = std::fs::read(bench.path("mute.ogv")).unwrap();
    assert_eq!(sniff(&mute[..256]), None);
    assert_eq!(
        fault(&mute, Codec::OggOpus),
        "this is not Opus, Vorbis or FLAC in Ogg: the bytes 80 74 68 65 6f 72 61 03"
    );
    let plain = std::fs::read(bench.path("indexed.ogg")).unwrap();
    let (samples, _) = decode_all(&plain, Format::new(Codec::OggVorbis, 48_000)).unwrap();
    for behind in [[0; 3_000].as_slice(), b"TAG of another format", b"O"] {
        for (bytes, length) in
            [([&plain, behind].concat(), samples.len()), ([&plain, behind, &plain].concat(), 2 * samples.len())]
        {
            assert_eq!(decode_all(&bytes, Format::new(Codec::OggVorbis, 48_000)).unwrap().0.len(), length);
        }
    }
}

#[test]
fn films_and_books_and_recordings_with_two_tracks_give_their_first_sound() {
    let bench = Bench::new(48_000, 1);
    let film = "ffmpeg -v error -y -f lavfi -i testsrc=s=64x64:d=2 -i in.wav";
    for (line, codec) in [
        (format!("{film} -c:v mpeg4 -c:a aac -b:a 96k film.mp4"), Codec::Mp4),
        (format!("{film} -c:v mjpeg -pix_fmt yuvj420p -c:a libopus -b:a 64k film.mkv"), Codec::WebmOpus),
        ("ffmpeg -v error -y -i in.wav -c:a aac -b:a 96k -f ipod book.m4b".into(), Codec::Mp4),
        ("ffmpeg -v error -y -i in.wav -c:a aac -b:a 96k old.mov".into(), Codec::Mp4),
        ("ffmpeg -v error -y -i in.wav -c:a aac -b:a 96k mobile.3gp".into(), Codec::Mp4),
        ("ffmpeg -v error -y -i in.wav -i in.wav -map 0 -map 1 -c:a libopus -b:a 64k two.webm".into(), Codec::WebmOpus),
    ] {
        is_read(&bench, &line, codec, 15.0, 0);
    }
}

#[test]
fn opus_of_every_frame_and_gain_is_read() {
    let bench = Bench::new(48_000, 1);
    for (options, file) in [("--framesize 2.5", "short.opus"), ("--framesize 60 --padding 9000", "long.opus")] {
        is_read(&bench, &format!("opusenc --quiet --bitrate 64 {options} in.wav {file}"), Codec::OggOpus, 15.0, 0);
    }
    // Half as loud by its header (RFC 7845, section 5.1), as programs that
    // bring files to one loudness write it; in the places of WebM and MP4 too.
    let quiet: [u8; 2] = (-1_541_i16).to_le_bytes();
    bench.run("ffmpeg -v error -y -i long.opus -c copy moved.webm");
    bench.run("ffmpeg -v error -y -i long.opus -c copy moved.mp4");
    for (file, codec, mark, at) in
        [("moved.webm", Codec::WebmOpus, b"OpusHead".as_slice(), 16), ("moved.mp4", Codec::Mp4, b"dOps".as_slice(), 12)]
    {
        let mut bytes = std::fs::read(bench.path(file)).unwrap();
        let loud = decode(&bench.path(file), codec).0;
        let place = bytes.windows(mark.len()).position(|window| window == mark).unwrap() + at;
        let gain = if codec == Codec::Mp4 { [quiet[1], quiet[0]] } else { quiet };
        bytes[place..place + 2].copy_from_slice(&gain);
        let (soft, _) = decode_all(&bytes, Format::new(codec, 48_000)).unwrap();
        let energy = |samples: &[f32]| samples.iter().map(|sample| f64::from(sample * sample)).sum::<f64>();
        let decibels = 10.0 * (energy(&soft) / energy(&loud)).log10();
        assert_eq!(soft.len(), loud.len(), "{file}");
        assert!((decibels + 6.02).abs() < 0.01, "{file}: {decibels} dB");
    }
}

#[test]
fn six_channels_become_two_with_what_is_said_in_the_middle() {
    // Speech in the middle alone, and a hum among the low tones.
    let bench = Bench::new(48_000, 1);
    let places = "-filter_complex aevalsrc=0.3*sin(314*t):d=2:s=48000[hum];aevalsrc=0|0|0|0:d=2:s=48000[rest];[0:a][hum][rest]amerge=inputs=3,pan=5.1|FC=c0|LFE=c1|FL=c2|FR=c3|BL=c4|BR=c5";
    for (codec, file, options) in [
        (Codec::Wav, "six.wav", "-c:a pcm_s16le"),
        (Codec::Flac, "six.flac", "-c:a flac"),
        (Codec::OggOpus, "six.opus", "-c:a libopus -mapping_family 1 -b:a 256k"),
        (Codec::OggVorbis, "six.ogg", "-c:a libvorbis -q:a 6"),
    ] {
        bench.run(&format!("ffmpeg -v error -y -i in.wav {places} {options} {file}"));
        let bytes = std::fs::read(bench.path(file)).unwrap();
        let (_, layout) = decode_all(&bytes, Format::new(codec, 48_000)).unwrap();
        assert_eq!(layout, Layout { rate: 48_000, channels: 6 }, "{file}");
        let stereo = bench.stereo(&bytes, codec);
        let (left, right): (Vec<f32>, Vec<f32>) = stereo.chunks_exact(2).map(|frame| (frame[0], frame[1])).unzip();
        for (side, samples) in [("left", left), ("right", right)] {
            // 0.7071 of it among 1, 0.7071 and 0.7071.
            let louder: Vec<f32> = samples.iter().map(|sample| sample / 0.292_893).collect();
            let (_, ratio, shift) = bench.compare(&louder, Layout { rate: 48_000, channels: 1 }, 4);
            assert!(ratio > 12.0 && shift == 0, "{file}, {side}: {ratio} dB at {shift}");
        }
    }
}

#[test]
fn what_is_not_read_is_named() {
    let bench = Bench::new(44_100, 1);
    for (line, names) in [
        ("sox -D in.wav -e ima-adpcm ima.wav", "WAV with coding 17"),
        ("sox -D in.wav -e ms-adpcm ms.wav", "WAV with coding 2 "),
        ("ffmpeg -v error -i in.wav -c:a libmp3lame in-mp3.wav", "WAV with coding 85"),
        ("ffmpeg -v error -i in.wav -f aiff -c:a adpcm_ima_qt ima.aifc", "AIFF with coding 'ima4'"),
        ("ffmpeg -v error -i in.wav -c:a aac -profile:a aac_main main.m4a", "AAC with the Main profile"),
        ("ffmpeg -v error -i in.wav -c:a aac -ac 6 six.m4a", "AAC with 6 channels"),
        ("ffmpeg -v error -i in.wav -c:a alac a.m4a", "MP4 with sound coded as 'alac'"),
        ("ffmpeg -v error -i in.wav -c:a libmp3lame -b:a 96k mp3.mp4", "MP4 with sound coded as MP3"),
        ("ffmpeg -v error -i in.wav -c:a pcm_s16le pcm.mka", "WebM with sound coded as A_PCM/INT/LIT"),
        ("ffmpeg -v error -f lavfi -i testsrc=s=64x64:d=1 -c:v mpeg4 mute.mp4", "MP4 with no track of sound"),
    ] {
        bench.run(line);
        let file = line.split_whitespace().last().unwrap();
        let bytes = std::fs::read(bench.path(file)).unwrap();
        let told = sniff(&bytes[..bytes.len().min(256)]).unwrap_or_else(|| panic!("{file} is told"));
        let message = fault(&bytes, told);
        assert!(message.starts_with(names) && message.ends_with("cannot be read"), "{file}: {message}");
    }
    for line in [
        "sox in.wav c.caf",
        "sox -D in.wav -t w64 w.w64",
        "ffmpeg -v error -i in.wav -c:a wmav2 w.wma",
        "ffmpeg -v error -i in.wav -c:a aac -b:a 96k -f mpegts t.ts",
        "ffmpeg -v error -i in.wav -c:a ac3 x.ac3",
        "ffmpeg -v error -i in.wav -c:a mp2 two.mp2",
        "sox in.wav s.voc",
        "ffmpeg -v error -i in.wav -c:a wavpack w.wv",
    ] {
        bench.run(line);
        let file = line.split_whitespace().last().unwrap();
        let bytes = std::fs::read(bench.path(file)).unwrap();
        assert_eq!(sniff(&bytes[..256]), None, "{file} is none that is read");
        for codec in [Codec::Wav, Codec::Mp3, Codec::Mp4, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Aac] {
            let wrong = decode_all(&bytes, Format::new(codec, 44_100)).unwrap_err();
            assert!(!wrong.to_string().is_empty(), "{file} as {codec:?}");
            assert!(!matches!(wrong, AudioError::Channels(_)), "{file} as {codec:?}: {wrong}");
        }
    }
}

#[test]
fn a_codebook_that_its_decoder_panics_at_is_a_malformed_stream() {
    let bytes = include_bytes!("data/malformed-codebook.ogg");
    assert!(!dispatcher_audio::expects_panic());
    assert_eq!(fault(bytes, Codec::OggVorbis), "the Ogg Vorbis codec failed: the stream is malformed");
    assert!(!dispatcher_audio::expects_panic(), "panics of this thread would go unreported");
}
