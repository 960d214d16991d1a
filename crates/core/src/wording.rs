//! Figures in words, for texts that the core writes itself. Numbers always carry their unit.

/// Between a number and its unit: no line ends there.
const GAP: char = '\u{a0}';
/// Between thousands.
const THIN: char = '\u{202f}';
/// Longest statement that is quoted within a sentence, in letters.
const LONGEST_QUOTE: usize = 96;

/// A number with about three significant digits.
pub fn number(value: f64) -> String {
    let size = value.abs();
    let digits = match size {
        _ if size.fract() == 0.0 || size >= 100.0 => 0,
        _ if size >= 10.0 => 1,
        _ if size >= 1.0 => 2,
        _ => 3,
    };
    let text = format!("{size:.digits$}");
    let (whole, fraction) = text.split_once('.').map_or((text.as_str(), None), |(w, f)| (w, Some(f)));
    let mut grouped = String::new();
    for (position, digit) in whole.chars().enumerate() {
        if position > 0 && (whole.len() - position) % 3 == 0 {
            grouped.push(THIN);
        }
        grouped.push(digit);
    }
    let sign = if value < 0.0 { "−" } else { "" };
    match fraction {
        Some(fraction) => format!("{sign}{grouped}.{fraction}"),
        None => format!("{sign}{grouped}"),
    }
}

/// So many things: "1 row", "2 rows".
pub fn counted(count: usize, one: &str) -> String {
    format!("{}{GAP}{one}{}", number(count as f64), if count == 1 { "" } else { "s" })
}

/// A size in bytes.
pub fn bytes(value: f64) -> String {
    let mut rest = value;
    for unit in ["B", "kB", "MB", "GB"] {
        if rest.abs() < 1024.0 {
            return format!("{}{GAP}{unit}", number(rest));
        }
        rest /= 1024.0;
    }
    format!("{}{GAP}TB", number(rest))
}

/// A length of time.
pub fn seconds(value: f64) -> String {
    let size = value.abs();
    let (value, unit) = match size {
        _ if size > 0.0 && size < 1.0 => (value * 1e3, "ms"),
        _ if size < 120.0 => (value, "s"),
        _ if size < 7_200.0 => (value / 60.0, "min"),
        _ if size < 172_800.0 => (value / 3_600.0, "h"),
        _ => (value / 86_400.0, "d"),
    };
    format!("{}{GAP}{unit}", number(value))
}

/// A share from 0 to 1 in per cent.
pub fn percent(share: f64) -> String {
    format!("{}{GAP}%", number(share * 100.0))
}

/// Up to `most` names, and how many more there are.
pub fn names<'a>(all: impl IntoIterator<Item = &'a str>, most: usize) -> String {
    let all: Vec<&str> = all.into_iter().collect();
    let shown = all.iter().take(most).copied().collect::<Vec<_>>().join(", ");
    match all.len().saturating_sub(most) {
        0 => shown,
        more => format!("{shown} and {} more", number(more as f64)),
    }
}

/// A statement on one line, cut where it is long.
pub fn statement(text: &str) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match line.char_indices().nth(LONGEST_QUOTE) {
        Some((end, _)) => format!("{}…", &line[..end]),
        None => line,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(text: String) -> String {
        text.replace([GAP, THIN], " ")
    }

    #[test]
    fn numbers_keep_three_digits_and_their_unit() {
        assert_eq!(
            [0.0, 7.0, 1.234, 12.34, 123.4, 1_234_567.0, -0.5].map(|n| plain(number(n))),
            ["0", "7", "1.23", "12.3", "123", "1 234 567", "−0.500"]
        );
        assert_eq!([512.0, 2048.0, 1.5e9, 3e15].map(|n| plain(bytes(n))), ["512 B", "2 kB", "1.40 GB", "2 728 TB"]);
        assert_eq!(
            [0.25, 90.0, 600.0, 86_400.0, 864_000.0].map(|n| plain(seconds(n))),
            ["250 ms", "90 s", "10 min", "24 h", "10 d"]
        );
        assert_eq!(plain(percent(0.125)), "12.5 %");
        assert_eq!([1, 2].map(|n| plain(counted(n, "row"))), ["1 row", "2 rows"]);
    }

    #[test]
    fn long_lists_and_statements_are_cut() {
        assert_eq!(names(["deck", "gate", "pier"], 2), "deck, gate and 1 more");
        assert_eq!(names(["deck", "gate"], 2), "deck, gate");
        assert_eq!(statement("SELECT\n  1"), "SELECT 1");
        assert_eq!(statement(&"é".repeat(200)).chars().count(), LONGEST_QUOTE + 1);
    }
}
