//! A report as HTML that stands alone and prints on A4.

use anyhow::Result;
use minijinja::{AutoEscape, Environment, context};
use serde::Serialize;

use crate::report::document::Report;

/// A table as the template writes it: all cells in words.
#[derive(Serialize)]
struct Written {
    title: String,
    heads: Vec<Head>,
    rows: Vec<Vec<String>>,
}

#[derive(Serialize)]
struct Head {
    title: String,
    class: &'static str,
}

#[derive(Serialize)]
struct WrittenSection {
    key: String,
    title: String,
    sentences: Vec<String>,
    tables: Vec<Written>,
}

/// The report as a page that needs nothing besides itself. All text is escaped: most of it comes from watched servers.
pub fn html(report: &Report) -> Result<String> {
    let sections: Vec<WrittenSection> = report
        .sections
        .iter()
        .map(|section| WrittenSection {
            key: section.key.clone(),
            title: section.title.clone(),
            sentences: section.sentences.clone(),
            tables: section.tables.iter().filter(|table| !table.rows.is_empty()).map(written).collect(),
        })
        .collect();
    let mut environment = Environment::new();
    // Most of the text comes from watched servers.
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    environment.add_template("report.html", include_str!("../../templates/report.html"))?;
    Ok(environment.get_template("report.html")?.render(context! {
        title => report.title,
        periods => report.periods(),
        remarks => report.remarks,
        words => report.words.lines().collect::<Vec<_>>(),
        made_at => report.made_at.format("%Y-%m-%d %H:%M:%S").to_string(),
        sections,
    })?)
}

fn written(table: &crate::report::document::ReportTable) -> Written {
    use crate::report::document::Measure;
    let class = |unit: Measure| match unit {
        Measure::Code => "code",
        unit if unit.is_number() => "number",
        Measure::Time => "time",
        _ => "",
    };
    let head = |column: &crate::report::document::ReportColumn| Head {
        title: column.title.clone(),
        class: class(column.unit),
    };
    Written {
        title: table.title.clone(),
        heads: table.columns.iter().map(head).collect(),
        rows: table
            .rows
            .iter()
            .map(|row| row.iter().zip(&table.columns).map(|(cell, column)| cell.written(column.unit)).collect())
            .collect(),
    }
}

#[cfg(test)]
mod tests {
    use hurnix_core::{Timestamp, Window};

    use super::*;
    use crate::report::document::{Measure, ReportTable, Section, column};
    use crate::report::kind::ReportKind;

    #[test]
    fn what_a_server_calls_its_things_does_nothing_in_a_report() {
        let evil = "<script>alert('gull')</script>";
        let span = Window { from: Timestamp(0), to: Timestamp(60_000_000) };
        let mut report = Report::new(ReportKind::Period, evil, span, None, Timestamp(0));
        report.words = format!("{evil}\n");
        report.remarks.push(evil.into());
        let table = ReportTable::new("t", evil, vec![column("statement", Measure::Code)]).with([vec![evil.into()]]);
        report.sections.push(Section {
            key: "load".into(),
            title: "Load".into(),
            sentences: vec![evil.into()],
            tables: vec![table],
        });
        let html = html(&report).unwrap();
        assert!(!html.contains("<script"), "{html}");
        assert_eq!(
            html.matches("&lt;script&gt;").count(),
            7,
            "title twice, remark, words, sentence, table and cell: {html}"
        );
    }
}
