//! Files of comma-separated values.

use anyhow::Result;

/// Rows under heads.
pub fn text<const N: usize>(heads: [&str; N], rows: impl Iterator<Item = [String; N]>) -> Result<String> {
    let mut writer = ::csv::Writer::from_writer(Vec::new());
    writer.write_record(heads)?;
    for row in rows {
        writer.write_record(row)?;
    }
    Ok(String::from_utf8(writer.into_inner()?)?)
}

/// A value that no spreadsheet takes for a formula: one that would be begins with an apostrophe.
pub fn safe(value: String) -> String {
    if value.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{value}") } else { value }
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
        let rows = [["a,b".to_owned(), "say \"ahoy\"".to_owned()], ["=1+1".to_owned(), "1-1".to_owned()].map(safe)];
        let text = text(["name", "value"], rows.into_iter()).unwrap();
        assert_eq!(["'=1+1", "'tis", "1-1"].map(plain), ["=1+1", "'tis", "1-1"]);
        assert_eq!(text, "name,value\n\"a,b\",\"say \"\"ahoy\"\"\"\n'=1+1,1-1\n");
    }
}
