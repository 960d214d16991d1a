//! Bundles: an instance's figures as a file, and back.

mod command;
mod export;
mod import;
mod inbox;

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::Path;

use anyhow::{Context, Result};
use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;

pub use command::{ExportOptions, ImportOptions, export_file, import_file};
pub use export::export;
pub use import::{Imported, import};
pub use inbox::watch;

/// Whether a file is, or is to be, compressed: its name says so.
fn is_compressed(file: &Path) -> bool {
    file.extension().is_some_and(|extension| extension == "gz")
}

/// A bundle's file, to be read.
pub fn open(file: &Path) -> Result<Box<dyn BufRead + Send>> {
    let opened = File::open(file).with_context(|| format!("opening {}", file.display()))?;
    Ok(if is_compressed(file) {
        Box::new(BufReader::new(MultiGzDecoder::new(BufReader::new(opened))))
    } else {
        Box::new(BufReader::new(opened))
    })
}

/// A bundle's file, to be written; nothing of that name may be there.
pub fn create(file: &Path) -> Result<Output> {
    let created = File::create_new(file).with_context(|| format!("making {}", file.display()))?;
    let out = BufWriter::new(created);
    Ok(if is_compressed(file) { Output::Gzip(GzEncoder::new(out, Compression::default())) } else { Output::Plain(out) })
}

/// Where a bundle is written to.
pub enum Output {
    /// As text.
    Plain(BufWriter<File>),
    /// Compressed.
    Gzip(GzEncoder<BufWriter<File>>),
}

impl Output {
    /// Ends the file.
    pub fn finish(self) -> Result<()> {
        match self {
            Output::Plain(mut out) => out.flush()?,
            Output::Gzip(out) => out.finish()?.flush()?,
        }
        Ok(())
    }
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match self {
            Output::Plain(out) => out.write(bytes),
            Output::Gzip(out) => out.write(bytes),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Output::Plain(out) => out.flush(),
            Output::Gzip(out) => out.flush(),
        }
    }
}
