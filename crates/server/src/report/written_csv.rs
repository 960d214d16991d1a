//! A report as CSV: a file for each table, in one archive.

use std::io::{Cursor, Write};

use anyhow::Result;
use zip::write::SimpleFileOptions;

use crate::csv;
use crate::report::document::{Cell, Report, ReportTable};

/// The tables of a report as files of comma-separated values, zipped.
pub fn zipped(report: &Report) -> Result<Vec<u8>> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for table in report.sections.iter().flat_map(|section| &section.tables) {
        archive.start_file(format!("{}.csv", table.name), SimpleFileOptions::default())?;
        archive.write_all(file(table)?.as_bytes())?;
    }
    if !report.words.is_empty() {
        archive.start_file("words.txt", SimpleFileOptions::default())?;
        archive.write_all(report.words.as_bytes())?;
    }
    Ok(archive.finish()?.into_inner())
}

fn file(table: &ReportTable) -> Result<String> {
    let heads: Vec<&str> = table.columns.iter().map(|column| column.name.as_str()).collect();
    // Numbers stay numbers, also those below zero; text is kept from being taken for a formula.
    let plain = |cell: &Cell| match cell {
        Cell::Text(text) => csv::safe(text.clone()),
        cell => cell.plain(),
    };
    csv::text(&heads, table.rows.iter().map(|row| row.iter().map(plain).collect::<Vec<_>>()))
}
