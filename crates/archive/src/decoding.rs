//! The tar inside an archive that is packed with Zstandard, gzip, xz, bzip2 or LZ4.

use std::io::{self, Read};

use bibliotax_core::card::ArchiveFormat;
use liblzma::read::XzDecoder;
use liblzma::stream::{CONCATENATED, Stream};

use crate::error::ArchiveError;
use crate::limits::exceeded;

/// Largest window of a Zstandard frame, as a power of two: 32 MiB of memory.
const MAX_WINDOW: u32 = 25;

/// Most memory that unpacking xz may take, in bytes: what its strongest setting wants for a window of 64 MiB.
const MAX_XZ_MEMORY: u64 = 66 << 20;

/// The tar inside an archive.
pub fn decoded<'s>(
    source: impl Read + 's,
    format: ArchiveFormat,
) -> Result<Box<dyn Read + 's>, ArchiveError> {
    Ok(match format {
        ArchiveFormat::TarZst => {
            let mut decoder = zstd::Decoder::new(source).map_err(|error| unreadable(format, &error))?;
            decoder.window_log_max(MAX_WINDOW).map_err(|error| unreadable(format, &error))?;
            Box::new(decoder)
        }
        ArchiveFormat::TarGz => Box::new(flate2::read::MultiGzDecoder::new(source)),
        ArchiveFormat::TarXz => {
            let stream = Stream::new_stream_decoder(MAX_XZ_MEMORY, CONCATENATED);
            let stream = stream.map_err(|error| unreadable(format, &error.into()))?;
            Box::new(XzDecoder::new_stream(source, stream))
        }
        ArchiveFormat::TarBz2 => Box::new(bzip2::read::MultiBzDecoder::new(source)),
        ArchiveFormat::TarLz4 => Box::new(lz4_flex::frame::FrameDecoder::new(source)),
        ArchiveFormat::Tar | ArchiveFormat::Zip => Box::new(source),
    })
}

pub fn unreadable(format: ArchiveFormat, error: &io::Error) -> ArchiveError {
    if let Some(exceeded) = exceeded(error) {
        return ArchiveError::TooMuch { entry: String::new(), limit: exceeded.limit.clone() };
    }
    let message = match error.kind() {
        io::ErrorKind::UnexpectedEof => "it ends too early",
        _ => "its structure is broken",
    };
    ArchiveError::Unreadable { format, message: message.into() }
}
