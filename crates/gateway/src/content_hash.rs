//! Content by its hash: equal content has one name, and changed content another.

use std::io::Read as _;
use std::path::Path;

use sha2::{Digest as _, Sha256};

/// Bytes of a file that are read at once.
const PIECE: usize = 64 << 10;

fn hexadecimal(digest: &[u8]) -> String {
    digest.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// SHA-256 (FIPS 180-4) of bytes, in hexadecimal.
pub fn content_hash(bytes: &[u8]) -> String {
    hexadecimal(&Sha256::digest(bytes))
}

/// The same of a file, read piece by piece.
///
/// # Errors
/// When the file cannot be read.
pub fn content_hash_of_file(path: &Path) -> std::io::Result<String> {
    let mut file = std::fs::File::open(path)?;
    let mut hash = Sha256::new();
    let mut piece = vec![0; PIECE];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hexadecimal(&hash.finalize())),
            count => hash.update(&piece[..count]),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_has_the_hash_of_its_bytes() {
        // FIPS 180-4, example B.1.
        assert_eq!(content_hash(b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("sound");
        for length in [0, 1, PIECE, PIECE + 1] {
            let bytes: Vec<u8> = (0..length).map(|n| (n % 251) as u8).collect();
            std::fs::write(&path, &bytes).expect("written");
            assert_eq!(content_hash_of_file(&path).expect("read"), content_hash(&bytes), "{length} bytes");
        }
    }
}
