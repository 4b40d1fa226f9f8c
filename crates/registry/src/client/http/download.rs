//! Downloads a file, and continues where the connection broke.

use std::io::{self, Read};
use std::time::Instant;

use reqwest::blocking::Response;

use super::client::{Client, Part};
use super::min_rate::{MinRateReader, TooSlow};
use crate::model::error::RegistryError;

/// How often in a row a connection may break without having brought anything.
const MAX_BREAKS: u32 = 4;

/// Reads a file of a registry.
pub struct Download {
    client: Client,
    path: String,
    /// The file's length, as the entry says; nothing where nobody said it.
    length: Option<u64>,
    read: u64,
    response: MinRateReader<Response>,
    breaks: u32,
}

impl Download {
    /// Begins to read a file of the length that the server says; `None` if it is not there.
    pub fn open_any(client: Client, path: String) -> Result<Option<Self>, RegistryError> {
        let Some(Part { length, body, .. }) = client.part(&path, 0)? else { return Ok(None) };
        Ok(Some(Self { client, path, length, read: 0, response: body, breaks: 0 }))
    }

    /// The file's length, where somebody said it.
    pub fn length(&self) -> Option<u64> {
        self.length
    }

    /// Begins to read a file of this length from a byte on.
    pub fn open(client: Client, path: String, length: u64, from: u64) -> Result<Self, RegistryError> {
        let response = client.open(&path, from)?;
        Ok(Self { client, path, length: Some(length), read: from, response, breaks: 0 })
    }
}

impl Read for Download {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let begun = Instant::now();
        loop {
            let read = self.response.read(buffer);
            match read {
                Ok(read) if read > 0 => {
                    self.read += read as u64;
                    self.breaks = 0;
                    return Ok(read);
                }
                // The check of the bytes needs to see one byte too many, and the end where it is.
                Ok(_) if self.length.is_none_or(|length| self.read >= length) || buffer.is_empty() => {
                    return Ok(0);
                }
                // It would be no quicker on another connection.
                Err(error) if TooSlow::is(&error) => return Err(error),
                Err(error) if begun.elapsed() > self.client.silence() * 3 / 2 => return Err(error),
                Ok(_) | Err(_) if self.breaks < MAX_BREAKS => {
                    self.breaks += 1;
                    self.response = self.client.open(&self.path, self.read).map_err(io::Error::other)?;
                }
                Ok(_) => return Err(io::ErrorKind::UnexpectedEof.into()),
                Err(error) => return Err(error),
            }
        }
    }
}
