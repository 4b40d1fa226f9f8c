//! SHA-256 digests of archives, cards and inputs.

use std::fmt;
use std::str::FromStr;

use data_encoding::HEXLOWER;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;

/// A SHA-256 digest (FIPS 180-4), printed as 64 lowercase hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest([u8; 32]);

impl Digest {
    /// The digest of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = Hasher::default();
        hasher.update(bytes);
        hasher.finish()
    }

    /// Its 32 bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// The first byte as two hexadecimal digits: the folder that holds what has this digest.
    pub fn folder(&self) -> String {
        format!("{:02x}", self.0[0])
    }

    /// The first twelve digits: enough for people to tell two apart.
    pub fn short(&self) -> String {
        self.to_string()[..12].to_owned()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = [0; 64];
        f.write_str(HEXLOWER.encode_mut_str(&self.0, &mut text))
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Digest {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let fault =
            || Fault::new("digest.invalid", "a SHA-256 digest is 64 digits of 0–9 and a–f", 0..text.len());
        let mut bytes = [0; 32];
        if text.len() != 64 {
            return Err(fault());
        }
        HEXLOWER.decode_mut(text.as_bytes(), &mut bytes).map_err(|_| fault())?;
        Ok(Self(bytes))
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

/// Takes in bytes as they pass by and ends in their digest.
#[derive(Clone)]
pub struct Hasher(ring::digest::Context);

impl Default for Hasher {
    fn default() -> Self {
        Self(ring::digest::Context::new(&ring::digest::SHA256))
    }
}

impl Hasher {
    /// Takes in the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all bytes taken in.
    pub fn finish(self) -> Digest {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(self.0.finish().as_ref());
        Digest(bytes)
    }
}

impl std::io::Write for Hasher {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prints_and_reads_the_well_known_digest_of_nothing() {
        let text = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        assert_eq!(Digest::of(b"").to_string(), text);
        assert_eq!(text.parse::<Digest>().unwrap(), Digest::of(b""));
        assert!(text.to_uppercase().parse::<Digest>().is_err());
        assert!(text[1..].parse::<Digest>().is_err());
    }
}
