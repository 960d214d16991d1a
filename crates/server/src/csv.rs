//! Files of comma-separated values.

use anyhow::Result;

/// Rows under heads.
pub fn text<R: IntoIterator<Item = String>>(heads: &[&str], rows: impl Iterator<Item = R>) -> Result<String> {
    let mut writer = ::csv::Writer::from_writer(Vec::new());
    writer.write_record(heads)?;
    for row in rows {
        writer.write_record(row)?;
    }
    Ok(String::from_utf8(writer.into_inner()?)?)
}

/// A value that no spreadsheet takes for a formula: one that would be begins with an apostrophe. Some pass over what
/// stands before the sign, and take signs of full width for theirs.
pub fn safe(value: String) -> String {
    let is_passed_over = |letter: char| letter.is_whitespace() || letter.is_control() || letter == '\u{feff}';
    let begins = value.trim_start_matches(is_passed_over);
    let is_formula =
        begins.starts_with(['=', '+', '-', '@', '＝', '＋', '－', '＠']) || value.starts_with(['\t', '\r']);
    if is_formula { format!("'{value}") } else { value }
}

/// A value as it was before [`safe`].
pub fn plain(value: &str) -> &str {
    value.strip_prefix('\'').filter(|rest| safe((*rest).to_owned()) != *rest).unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_with_commas_quotes_and_formulas_stay_values() {
        for formula in [" =1+1", "\n@SUM(A1)", "\u{feff}+1", "＝1+1", "\u{a0}－1", "\r\n=1", "\t1"] {
            assert_eq!(safe(formula.to_owned()), format!("'{formula}"));
            assert_eq!(plain(&safe(formula.to_owned())), formula);
        }
        let rows = [["a,b".to_owned(), "say \"ahoy\"".to_owned()], ["=1+1".to_owned(), "1-1".to_owned()].map(safe)];
        let text = text(&["name", "value"], rows.into_iter()).unwrap();
        assert_eq!(["'=1+1", "'tis", "1-1"].map(plain), ["=1+1", "'tis", "1-1"]);
        assert_eq!(text, "name,value\n\"a,b\",\"say \"\"ahoy\"\"\"\n'=1+1,1-1\n");
    }
}
