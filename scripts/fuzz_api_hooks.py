"""Bodies for the requests of scripts/fuzz-api.sh: a schema says nothing of audio."""

import io
import math
import struct
import wave

import schemathesis
from hypothesis import strategies


def recording(rate=16_000, channels=1, seconds=0.5):
    """A tone in a WAV file."""
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(2)
        file.setframerate(rate)
        for n in range(int(rate * seconds)):
            sample = int(8_000 * math.sin(n * 0.1))
            file.writeframes(struct.pack("<h", sample) * channels)
    return out.getvalue()


def spoilt(data):
    """What breaks off, or is nothing at all."""
    return [data[: len(data) // 2], data[:20], b"", b"\x00" * 64, b"not audio at all"]


RECORDINGS = [recording(), recording(8_000), recording(48_000, 2)]
AUDIO = strategies.sampled_from(RECORDINGS + spoilt(RECORDINGS[0])) | strategies.binary(max_size=200)
for media_type in (
    "audio/*", "audio/wav", "audio/mpeg", "audio/ogg", "audio/ogg;codecs=opus", "audio/webm;codecs=opus", "audio/mp4",
    "audio/flac", "audio/aac", "audio/aiff", "audio/pcm", "audio/basic", "audio/L16", "application/octet-stream",
    "application/partial-upload",
):
    schemathesis.openapi.media_type(media_type, AUDIO)

TEXT = strategies.sampled_from([
    "The 06:15 to Gullsay is delayed by twenty minutes.",
    "# Rounds\n\nAll aboard.",
    "<h1>Rounds</h1><p>All aboard.</p>",
    "六時十五分の便",
    "",
]) | strategies.text(max_size=60)
DOCUMENT = strategies.sampled_from([
    '<speak version="1.1" xmlns="http://www.w3.org/2001/10/synthesis" xml:lang="en">Ahoy <break time="200ms"/></speak>',
    '<speak version="1.1" xmlns="http://www.w3.org/2001/10/synthesis" xml:lang="en"><nothing/></speak>',
    '<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa" xml:lang="en">'
    "<lexeme><grapheme>Gullsay</grapheme><alias>Gull say</alias></lexeme></lexicon>",
    "<speak",
])
for media_type in ("text/plain", "text/markdown", "text/html", "text/csv", "application/toml"):
    schemathesis.openapi.media_type(media_type, TEXT.map(lambda text: text.encode("utf-8", "surrogatepass")))
for media_type in ("application/ssml+xml", "application/pls+xml"):
    schemathesis.openapi.media_type(media_type, DOCUMENT.map(str.encode))
for media_type in ("application/pdf", "application/epub+zip", "application/zip"):
    schemathesis.openapi.media_type(media_type, strategies.sampled_from([b"%PDF-1.4\n", b"PK\x03\x04", b""]))
