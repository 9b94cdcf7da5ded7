//! Signed provenance: a file of made audio carries a signature over its digest,
//! which covers its tags too (`dispatcher_audio::put_provenance`), so that
//! anybody with the public key can check who made it, and that nobody changed it.
//!
//! What does not live here: when a file is signed (`dispatch/completion.rs`).

use std::io::{self, Read, Seek, SeekFrom, Write};

use dispatcher_audio::{PROVENANCE_HEAD, UNSIGNED, provenance, put_provenance};
use dispatcher_vault::{SigningKey, verify_signature};
use sha2::{Digest as _, Sha256};

use crate::Gateway;

/// Begins what is signed, so that the signature of nothing else can be meant.
const PURPOSE: &[u8] = b"dispatcher provenance 1\n";
/// Bytes that are read at once.
const PIECE: usize = 64 << 10;

/// What a file says of who made it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Provenance {
    /// Nothing: no gateway made it, or its container carries no tags.
    Missing,
    /// A gateway made it and did not sign it: it was streamed.
    Unsigned,
    Signed(ProvenanceSignature),
}

/// A signature, and what it must be one of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProvenanceSignature {
    /// The beginning of the public key.
    pub key: String,
    signature: String,
    message: Vec<u8>,
}

impl ProvenanceSignature {
    /// Whether it is that of the key with this public key (base64url), and the
    /// file is as it was when it was signed.
    pub fn verifies(&self, public: &str) -> bool {
        verify_signature(public, &self.message, &self.signature)
    }
}

fn head_of(file: &mut (impl Read + Seek)) -> io::Result<Vec<u8>> {
    file.rewind()?;
    let mut head = Vec::new();
    file.by_ref().take(PROVENANCE_HEAD as u64).read_to_end(&mut head)?;
    Ok(head)
}

/// What is signed of a file that begins so.
fn message(head: &[u8], file: &mut (impl Read + Seek)) -> io::Result<Vec<u8>> {
    let mut digest = Sha256::new();
    digest.update(head);
    file.seek(SeekFrom::Start(head.len() as u64))?;
    let mut piece = vec![0; PIECE];
    loop {
        match file.read(&mut piece)? {
            0 => break,
            count => digest.update(&piece[..count]),
        }
    }
    Ok([PURPOSE, digest.finalize().as_slice()].concat())
}

impl Gateway {
    /// The key that signs complete audio; `None` where nothing is signed.
    pub fn audio_signer(&self) -> Option<&SigningKey> {
        self.inner.host.signer.as_deref()
    }
}

/// Signs a complete file, where it has a place for a signature.
///
/// # Errors
/// When the file cannot be read or written.
pub(crate) fn sign(key: &SigningKey, file: &mut (impl Read + Write + Seek)) -> io::Result<()> {
    let mut head = head_of(file)?;
    if provenance(&head) == Some(UNSIGNED) {
        let signature = key.sign(&message(&head, file)?);
        if put_provenance(&mut head, &format!("{}.{signature}", key.id())) {
            file.rewind()?;
            file.write_all(&head)?;
        }
    }
    Ok(())
}

/// Reads who made a file.
///
/// # Errors
/// When the file cannot be read.
pub fn read_provenance(file: &mut (impl Read + Seek)) -> io::Result<Provenance> {
    let mut head = head_of(file)?;
    let found = match provenance(&head) {
        None => return Ok(Provenance::Missing),
        Some(UNSIGNED) => return Ok(Provenance::Unsigned),
        Some(value) => value.split_once('.').map(|(key, signature)| (key.to_owned(), signature.to_owned())),
    };
    let Some((key, signature)) = found else { return Ok(Provenance::Missing) };
    put_provenance(&mut head, UNSIGNED);
    Ok(Provenance::Signed(ProvenanceSignature { key, signature, message: message(&head, file)? }))
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use dispatcher_audio::{Codec, Format, Options, Tags, Transcoder, encode_all};

    use super::*;

    fn key() -> SigningKey {
        SigningKey::from_pem(&SigningKey::new_pem().expect("a key")).expect("a key")
    }

    fn made(codec: Codec) -> Vec<u8> {
        let samples: Vec<f32> = (0..24_000).map(|n| 0.4 * (n as f32 * 0.17).sin()).collect();
        let from = Format::new(Codec::Wav, 24_000);
        let tags = Tags { synthetic: true, provenance: Some(UNSIGNED.into()), ..Tags::default() };
        let options = Options { tags, ..Options::default() };
        let mut transcoder = Transcoder::with(from, Format::new(codec, 24_000), options).expect("a transcoder");
        let mut out = transcoder.push(&encode_all(&samples, from).expect("audio").into()).expect("audio").to_vec();
        out.extend_from_slice(&transcoder.finish().expect("audio"));
        out
    }

    #[test]
    fn a_signed_file_is_known_until_a_byte_of_it_is_changed() {
        let key = key();
        for codec in [Codec::Mp3, Codec::OggOpus, Codec::WebmOpus, Codec::Flac, Codec::Wav] {
            let mut audio = made(codec);
            let read = |audio: &[u8]| read_provenance(&mut Cursor::new(audio)).expect("read");
            assert_eq!(read(&audio), Provenance::Unsigned, "{codec:?}");
            sign(&key, &mut Cursor::new(&mut audio)).expect("signed");
            let Provenance::Signed(signature) = read(&audio) else { panic!("{codec:?} is not signed") };
            assert!(signature.verifies(key.public()) && signature.key == key.id(), "{codec:?}");
            assert!(!signature.verifies(super::tests::key().public()), "another's key");
            let again = audio.clone();
            sign(&super::tests::key(), &mut Cursor::new(&mut audio)).expect("read");
            assert_eq!(audio, again, "{codec:?}: what is signed is not signed by another");
            for at in [audio.len() - 1, audio.len() / 2, 3 * audio.len() / 4] {
                let mut changed = audio.clone();
                changed[at] ^= 1;
                let Provenance::Signed(signature) = read(&changed) else { panic!("{codec:?} at {at}") };
                assert!(!signature.verifies(key.public()), "{codec:?} changed at {at}");
            }
            let mut longer = audio.clone();
            longer.push(0);
            let Provenance::Signed(signature) = read(&longer) else { panic!("{codec:?}") };
            assert!(!signature.verifies(key.public()), "{codec:?} with a byte more");
        }
        let raw = [5; 9_000];
        assert_eq!(read_provenance(&mut Cursor::new(&raw)).expect("read"), Provenance::Missing);
    }
}
