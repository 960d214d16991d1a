//! OpenMetrics text (openmetrics.io, version 1.0; the older exposition format reads the same here).

use std::collections::HashMap;

/// One sample of an exposition.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// Its name, with suffixes such as `_total`.
    pub name: String,
    /// Its labels.
    pub labels: HashMap<String, String>,
    /// Its value.
    pub value: f64,
}

impl Sample {
    /// The value of a label; empty where it is not there, which means the same.
    pub fn label(&self, name: &str) -> &str {
        self.labels.get(name).map_or("", String::as_str)
    }
}

/// All samples of an exposition, in their order. Comments are passed over; an error names the line.
pub fn parse(text: &str) -> Result<Vec<Sample>, String> {
    let mut samples = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let line = line.trim();
        if line == "# EOF" {
            break;
        }
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let sample = sample(line).ok_or_else(|| format!("line {}: {line:?} is no sample", number + 1))?;
        samples.push(sample);
    }
    Ok(samples)
}

fn sample(line: &str) -> Option<Sample> {
    let name_ends = line.find(|sign: char| sign == '{' || sign.is_whitespace())?;
    let (name, rest) = line.split_at(name_ends);
    let is_name = |sign: char| sign.is_ascii_alphanumeric() || sign == '_' || sign == ':';
    if name.is_empty() || !name.chars().all(is_name) {
        return None;
    }
    let (labels, rest) = match rest.strip_prefix('{') {
        Some(inside) => labels(inside)?,
        None => (HashMap::new(), rest),
    };
    let value = rest.split_whitespace().next()?.parse().ok()?;
    Some(Sample { name: name.to_owned(), labels, value })
}

/// Labels up to the closing brace, and what comes after it.
fn labels(mut rest: &str) -> Option<(HashMap<String, String>, &str)> {
    let mut labels = HashMap::new();
    loop {
        rest = rest.trim_start_matches([' ', ',']);
        if let Some(after) = rest.strip_prefix('}') {
            return Some((labels, after));
        }
        let (name, quoted) = rest.split_once("=\"")?;
        let mut value = String::new();
        let mut signs = quoted.char_indices();
        let end = loop {
            match signs.next()? {
                (at, '"') => break at,
                (_, '\\') => value.push(match signs.next()?.1 {
                    'n' => '\n',
                    other => other,
                }),
                (_, sign) => value.push(sign),
            }
        };
        labels.insert(name.trim().to_owned(), value);
        rest = &quoted[end + 1..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_labels_and_values_are_read() {
        let text = "# TYPE a counter\n# HELP a Something.\na_total{of=\"x, \\\"y\\\"\\n}\",and=\"\"} 5 1700000000.5\nb 1e3\n\nc{} NaN\n# EOF\nafter 1\n";
        let samples = parse(text).unwrap();
        assert_eq!(samples.len(), 3);
        assert_eq!((samples[0].name.as_str(), samples[0].value), ("a_total", 5.0));
        assert_eq!(
            (samples[0].label("of"), samples[0].label("and"), samples[0].label("none")),
            ("x, \"y\"\n}", "", "")
        );
        assert_eq!(samples[1].value, 1000.0);
        assert!(samples[2].value.is_nan());
    }

    #[test]
    fn what_is_no_sample_is_told_with_its_line() {
        for bad in ["<html>", "a", "a{of=\"x} 1", "a{of} 1", "a one", "ä 1"] {
            let problem = parse(&format!("good 1\n{bad}")).unwrap_err();
            assert!(problem.starts_with("line 2: "), "{problem}");
        }
    }
}
