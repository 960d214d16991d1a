//! A report as plain text, for mails and terminals.

use crate::report::document::{Report, ReportTable};

/// Columns of a line; what is longer is cut where it stands last.
const WIDTH: usize = 118;
/// Most of a cell that is not the last.
const MOST_IN_CELL: usize = 46;

/// The report as plain text.
pub fn text(report: &Report) -> String {
    let mut lines = vec![report.title.clone(), "=".repeat(report.title.chars().count()), report.periods()];
    lines.push(format!("Made at {}. All times are UTC.", report.made_at.format("%Y-%m-%d %H:%M:%S")));
    let paragraphs = report.remarks.iter().map(String::as_str).chain(report.words.lines());
    for paragraph in paragraphs {
        lines.push(String::new());
        lines.extend(wrapped(paragraph));
    }
    for section in &report.sections {
        lines.extend([String::new(), section.title.clone(), "-".repeat(section.title.chars().count())]);
        lines.extend(section.sentences.iter().flat_map(|sentence| wrapped(sentence)));
        for table in section.tables.iter().filter(|table| !table.rows.is_empty()) {
            lines.extend([String::new(), table.title.clone()]);
            lines.extend(laid_out(table));
        }
    }
    lines.push(String::new());
    lines.join("\n")
}

/// A sentence in lines no longer than fit.
fn wrapped(sentence: &str) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in sentence.split(' ') {
        let last = lines.last_mut().map_or(0, |line| line.chars().count());
        if last > 0 && last + 1 + word.chars().count() > WIDTH {
            lines.push(word.to_owned());
        } else if let Some(line) = lines.last_mut() {
            if last > 0 {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}

fn cut(text: &str, most: usize) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    if line.chars().count() <= most {
        return line;
    }
    line.chars().take(most.saturating_sub(1)).chain(['…']).collect()
}

/// Columns under each other, numbers at the right.
fn laid_out(table: &ReportTable) -> Vec<String> {
    if let [only] = table.columns.as_slice() {
        // With the room of a line to itself, nothing need be cut.
        let cells = table.rows.iter().filter_map(|row| row.first());
        let lines = |text: String| if text.chars().count() <= WIDTH { vec![text] } else { wrapped(&text) };
        return cells.flat_map(|cell| lines(cell.written(only.unit))).collect();
    }
    let last = table.columns.len().saturating_sub(1);
    let heads: Vec<String> = table.columns.iter().map(|column| column.title.clone()).collect();
    let written = |row: &Vec<crate::report::document::Cell>| -> Vec<String> {
        row.iter().zip(&table.columns).map(|(cell, column)| cell.written(column.unit)).collect()
    };
    let rows: Vec<Vec<String>> = table.rows.iter().map(written).collect();
    let width = |place: usize| {
        let cells = rows.iter().chain([&heads]).map(|row| row[place].chars().count());
        cells.max().unwrap_or_default().min(if place == last { WIDTH } else { MOST_IN_CELL })
    };
    let widths: Vec<usize> = (0..heads.len()).map(width).collect();
    let before: usize = widths.iter().take(last).map(|width| width + 2).sum();
    let line = |row: &Vec<String>| {
        let mut line = String::new();
        for (place, cell) in row.iter().enumerate() {
            let room = if place == last { WIDTH.saturating_sub(before).max(20) } else { widths[place] };
            let cell = cut(cell, room);
            let pad = " ".repeat(widths[place].saturating_sub(cell.chars().count()));
            match (table.columns[place].unit.is_number(), place == last) {
                (true, _) => line.push_str(&format!("{pad}{cell}  ")),
                (false, false) => line.push_str(&format!("{cell}{pad}  ")),
                (false, true) => line.push_str(&cell),
            }
        }
        line.trim_end().to_owned()
    };
    [&heads].into_iter().chain(&rows).map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::report::document::{Measure, column};

    #[test]
    fn columns_stand_under_each_other_and_the_last_is_cut() {
        let table =
            ReportTable::new("t", "T", vec![column("calls", Measure::Count), column("statement", Measure::Code)]).with(
                [vec![7.into(), "select 1".into()], vec![12_000.into(), format!("select {}", "x, ".repeat(90)).into()]],
            );
        let lines = laid_out(&table);
        assert_eq!(lines[0], " calls  statement");
        assert_eq!(lines[1], "     7  select 1");
        assert!(lines[2].starts_with("12 000  select x, x,") && lines[2].ends_with('…'));
        assert_eq!(lines[2].chars().count(), WIDTH);
    }

    #[test]
    fn what_stands_alone_in_its_lines_is_wrapped_and_stays_indented() {
        let plan = ["Limit", "  ->  Seq Scan on tariff"].map(|line| vec![line.into()]);
        let table = ReportTable::new("plan", "P", vec![column("step", Measure::Code)]).with(plan);
        assert_eq!(laid_out(&table), ["Limit", "  ->  Seq Scan on tariff"]);
        let text = ReportTable::new("t", "T", vec![column("statement", Measure::Code)]);
        let lines = laid_out(&text.with([vec![format!("select {}", "metres, ".repeat(40)).into()]]));
        assert!(lines.len() == 3 && lines.iter().all(|line| line.chars().count() <= WIDTH), "{lines:?}");
    }

    #[test]
    fn long_sentences_are_wrapped() {
        let lines = wrapped(&"gate ".repeat(60));
        assert!(lines.len() == 3 && lines.iter().all(|line| line.chars().count() <= WIDTH));
    }
}
