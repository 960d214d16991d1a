//! Rule 6: statement families, statements that differ only in literals.
//!
//! [`fold`] rewrites a statement into the text of its family: literals and parameters become `?`,
//! lists of them `?, ...`, white space and comments fold away, words lose their case. Quoted
//! identifiers stay to the letter. It reads tokens, not grammar, so it works on any dialect and on
//! text that was cut short.
//!
//! ```
//! use hurnix_core::family::fold;
//! let one = fold("SELECT * FROM passage_leg WHERE crossing_id IN (4, 5) AND state='boarded' -- gate");
//! let two = fold("select *\n from passage_leg where crossing_id in ( 7 ) and state = 'open'");
//! assert_eq!(one.text, "select * from passage_leg where crossing_id in (?, ...) and state = ?");
//! assert_eq!(one.text, two.text);
//! assert_eq!(one.tag.as_deref(), Some("gate"));
//! ```
//!
//! Laws, tested below: folding a folded text changes nothing; two texts that differ in literals only
//! have one family; different tables or columns never do.

/// A statement's family.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Family {
    /// The text all its statements share.
    pub text: String,
    /// A leading or trailing comment, by which authors find their statements again.
    pub tag: Option<String>,
}

impl Family {
    /// A number that tells families apart. The same in every release.
    pub fn fingerprint(&self) -> i64 {
        fingerprint(&self.text)
    }
}

/// A number that tells texts apart: their 64-bit FNV-1a. The same in every release.
pub(crate) fn fingerprint(text: &str) -> i64 {
    let hash = text
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3));
    hash as i64
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// Keyword or unquoted identifier.
    Word,
    /// Quoted identifier.
    Quoted,
    /// Literal, parameter, or a folded one.
    Value,
    /// One or more signs that belong together.
    Sign,
}

struct Token<'a> {
    kind: Kind,
    text: &'a str,
}

/// Words after which an opening bracket begins a group, not a call, and a minus sign a number.
const GROUPING_WORDS: [&str; 34] = [
    "all",
    "and",
    "any",
    "array",
    "as",
    "between",
    "by",
    "case",
    "distinct",
    "else",
    "except",
    "exists",
    "from",
    "having",
    "ilike",
    "in",
    "intersect",
    "is",
    "like",
    "limit",
    "not",
    "offset",
    "on",
    "or",
    "over",
    "return",
    "select",
    "set",
    "some",
    "then",
    "union",
    "values",
    "when",
    "where",
];

fn groups(word: &str) -> bool {
    GROUPING_WORDS.iter().any(|grouping| grouping.eq_ignore_ascii_case(word))
}

/// The family of a statement. Linear in its length.
pub fn fold(statement: &str) -> Family {
    let (tokens, tag) = scan(statement);
    Family { text: write(&collapse(tokens)), tag }
}

/// Splits a statement into tokens; white space and comments fall away, values are already folded.
fn scan(statement: &str) -> (Vec<Token<'_>>, Option<String>) {
    let bytes = statement.as_bytes();
    let mut tokens: Vec<Token> = Vec::with_capacity(bytes.len() / 4);
    let mut leading: Option<&str> = None;
    let mut trailing: Option<&str> = None;
    let mut at = 0;
    while at < bytes.len() {
        let start = at;
        let byte = bytes[at];
        let next = bytes.get(at + 1).copied().unwrap_or(0);
        let kind = match byte {
            _ if byte.is_ascii_whitespace() => {
                at += 1;
                continue;
            }
            b'-' if next == b'-' => {
                at = find(bytes, at, b"\n");
                note_comment(&mut leading, &mut trailing, tokens.is_empty(), &statement[start + 2..at]);
                continue;
            }
            b'/' if next == b'*' => {
                at = block_comment_end(bytes, at);
                let inner = statement[start + 2..at].trim_end_matches("*/");
                note_comment(&mut leading, &mut trailing, tokens.is_empty(), inner);
                continue;
            }
            b'\'' => {
                at = quoted_end(bytes, at, b'\'', false);
                Kind::Value
            }
            b'"' => {
                at = quoted_end(bytes, at, b'"', false);
                Kind::Quoted
            }
            b'$' => {
                at = dollar_end(bytes, at);
                if at > start + 1 { Kind::Value } else { Kind::Sign }
            }
            b'?' => {
                at += 1;
                Kind::Value
            }
            b'0'..=b'9' => {
                at = number_end(bytes, at);
                Kind::Value
            }
            b'.' if next.is_ascii_digit() && !follows_name(&tokens) => {
                at = number_end(bytes, at);
                Kind::Value
            }
            b'.' if bytes[at..].starts_with(b"...") => {
                at += 3;
                Kind::Value
            }
            b'-' | b'+' if starts_number(bytes, at + 1) && expects_operand(&tokens) => {
                at += 1;
                while bytes.get(at).is_some_and(u8::is_ascii_whitespace) {
                    at += 1;
                }
                at = number_end(bytes, at);
                Kind::Value
            }
            _ if is_word(byte) => {
                while at < bytes.len() && (is_word(bytes[at]) || bytes[at].is_ascii_digit() || bytes[at] == b'$') {
                    at += 1;
                }
                // A letter that announces what kind of literal follows.
                if at < bytes.len() && bytes[at] == b'\'' && at - start <= 2 {
                    let escapes = matches!(byte, b'e' | b'E');
                    at = quoted_end(bytes, at, b'\'', escapes);
                    Kind::Value
                } else {
                    Kind::Word
                }
            }
            b'(' | b')' | b'[' | b']' | b',' | b';' => {
                at += 1;
                Kind::Sign
            }
            b'.' => {
                at += 1;
                Kind::Sign
            }
            b':' => {
                at += if next == b':' { 2 } else { 1 };
                Kind::Sign
            }
            _ => {
                at += 1;
                while at < bytes.len() && is_operator(bytes[at]) && is_operator(byte) && !comment_starts(bytes, at) {
                    if matches!(bytes[at], b'-' | b'+') && starts_number(bytes, at + 1) {
                        break;
                    }
                    at += 1;
                }
                while !statement.is_char_boundary(at) {
                    at += 1;
                }
                Kind::Sign
            }
        };
        trailing = None;
        tokens.push(Token { kind, text: &statement[start..at] });
    }
    while tokens.last().is_some_and(|token| token.text == ";") {
        tokens.pop();
    }
    let tag = leading.or(trailing).map(str::trim).filter(|tag| !tag.is_empty()).map(str::to_owned);
    (tokens, tag)
}

fn note_comment<'a>(leading: &mut Option<&'a str>, trailing: &mut Option<&'a str>, before_all: bool, text: &'a str) {
    let place = if before_all { leading } else { trailing };
    if place.is_none() {
        *place = Some(text);
    }
}

fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80
}

fn is_operator(byte: u8) -> bool {
    matches!(
        byte,
        b'=' | b'<' | b'>' | b'!' | b'~' | b'|' | b'&' | b'@' | b'#' | b'%' | b'^' | b'*' | b'+' | b'-' | b'/'
    )
}

fn comment_starts(bytes: &[u8], at: usize) -> bool {
    bytes[at..].starts_with(b"--") || bytes[at..].starts_with(b"/*")
}

/// Where `end` next occurs at or after `at`, or the end of the text.
fn find(bytes: &[u8], at: usize, end: &[u8]) -> usize {
    bytes[at..].windows(end.len()).position(|window| window == end).map_or(bytes.len(), |found| at + found)
}

/// The end of a comment that starts here, with those inside it.
pub(crate) fn block_comment_end(bytes: &[u8], start: usize) -> usize {
    let mut depth = 0;
    let mut at = start;
    while at < bytes.len() {
        if bytes[at..].starts_with(b"/*") {
            depth += 1;
            at += 2;
        } else if bytes[at..].starts_with(b"*/") {
            depth -= 1;
            at += 2;
            if depth == 0 {
                return at;
            }
        } else {
            at += 1;
        }
    }
    bytes.len()
}

fn quoted_end(bytes: &[u8], start: usize, quote: u8, escapes: bool) -> usize {
    let mut at = start + 1;
    while at < bytes.len() {
        if escapes && bytes[at] == b'\\' {
            at += 2;
        } else if bytes[at] != quote {
            at += 1;
        } else if bytes.get(at + 1) == Some(&quote) {
            at += 2;
        } else {
            return at + 1;
        }
    }
    bytes.len()
}

/// The end of `$1`, `$$text$$` or `$tag$text$tag$`; just past the sign when it is none of them.
fn dollar_end(bytes: &[u8], start: usize) -> usize {
    let mut at = start + 1;
    if bytes.get(at).is_some_and(u8::is_ascii_digit) {
        while bytes.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        return at;
    }
    while at < bytes.len() && (is_word(bytes[at]) || bytes[at].is_ascii_digit()) {
        at += 1;
    }
    if bytes.get(at) != Some(&b'$') {
        return start + 1;
    }
    let mark = &bytes[start..=at];
    (find(bytes, at + 1, mark) + mark.len()).min(bytes.len())
}

fn starts_number(bytes: &[u8], mut at: usize) -> bool {
    while bytes.get(at).is_some_and(u8::is_ascii_whitespace) {
        at += 1;
    }
    match bytes.get(at) {
        Some(b'.') => bytes.get(at + 1).is_some_and(u8::is_ascii_digit),
        Some(byte) => byte.is_ascii_digit(),
        None => false,
    }
}

fn number_end(bytes: &[u8], start: usize) -> usize {
    let mut at = start;
    while at < bytes.len() {
        let byte = bytes[at];
        let exponent_sign = matches!(byte, b'+' | b'-') && matches!(bytes[at - 1], b'e' | b'E') && at > start;
        let range = byte == b'.' && bytes.get(at + 1) == Some(&b'.');
        if range || !(byte.is_ascii_alphanumeric() || byte == b'.' || byte == b'_' || exponent_sign) {
            break;
        }
        at += 1;
    }
    at
}

fn follows_name(tokens: &[Token]) -> bool {
    tokens.last().is_some_and(|token| matches!(token.kind, Kind::Word | Kind::Quoted) || token.text == ")")
}

/// Whether a plus or minus sign here belongs to the number behind it.
fn expects_operand(tokens: &[Token]) -> bool {
    match tokens.last() {
        None => true,
        Some(token) => match token.kind {
            Kind::Word => groups(token.text),
            Kind::Quoted | Kind::Value => false,
            Kind::Sign => !matches!(token.text, ")" | "]"),
        },
    }
}

/// Turns lists of values after `in`, `values` and `array` into one value and an ellipsis.
fn collapse(tokens: Vec<Token<'_>>) -> Vec<Token<'_>> {
    let mut kept: Vec<Token> = Vec::with_capacity(tokens.len());
    let mut at = 0;
    while at < tokens.len() {
        let opens = match tokens[at].text {
            "(" => kept.last().is_some_and(|before| before.text.eq_ignore_ascii_case("in")),
            "[" => kept.last().is_some_and(|before| before.text.eq_ignore_ascii_case("array")),
            _ => false,
        };
        if opens && let Some(end) = value_list_end(&tokens, at) {
            let close = if tokens[at].text == "(" { ")" } else { "]" };
            for (kind, text) in [
                (Kind::Sign, tokens[at].text),
                (Kind::Value, "?"),
                (Kind::Sign, ","),
                (Kind::Value, "..."),
                (Kind::Sign, close),
            ] {
                kept.push(Token { kind, text });
            }
            at = end;
        } else if tokens[at].text.eq_ignore_ascii_case("values")
            && let Some(first_end) = value_list_end(&tokens, at + 1)
        {
            let rows_end = further_rows_end(&tokens, first_end);
            kept.extend(tokens[at..first_end].iter().map(|token| Token { kind: token.kind, text: token.text }));
            if rows_end > first_end {
                kept.push(Token { kind: Kind::Sign, text: "," });
                kept.push(Token { kind: Kind::Value, text: "..." });
            }
            at = rows_end;
        } else {
            kept.push(Token { kind: tokens[at].kind, text: tokens[at].text });
            at += 1;
        }
    }
    kept
}

/// The end of a bracketed list of nothing but values that starts at `start`.
fn value_list_end(tokens: &[Token], start: usize) -> Option<usize> {
    let close = match tokens.get(start)?.text {
        "(" => ")",
        "[" => "]",
        _ => return None,
    };
    let mut at = start + 1;
    loop {
        if tokens.get(at)?.kind != Kind::Value {
            return None;
        }
        match tokens.get(at + 1)?.text {
            "," => at += 2,
            text if text == close => return Some(at + 2),
            _ => return None,
        }
    }
}

/// The end of the `, (values)` and `, ...` that follow a row of values.
fn further_rows_end(tokens: &[Token], first_end: usize) -> usize {
    let mut end = first_end;
    while tokens.get(end).is_some_and(|token| token.text == ",") {
        match tokens.get(end + 1) {
            Some(token) if token.text == "..." => end += 2,
            Some(_) => match value_list_end(tokens, end + 1) {
                Some(row_end) => end = row_end,
                None => break,
            },
            None => break,
        }
    }
    end
}

/// Writes tokens with one canonical spacing.
fn write(tokens: &[Token]) -> String {
    let mut text = String::with_capacity(tokens.iter().map(|token| token.text.len() + 1).sum());
    let mut before: Option<&Token> = None;
    for token in tokens {
        if before.is_some_and(|before| spaced(before, token)) {
            text.push(' ');
        }
        match token.kind {
            Kind::Word if token.text.is_ascii() => {
                text.extend(token.text.bytes().map(|byte| char::from(byte.to_ascii_lowercase())));
            }
            Kind::Word => text.push_str(&token.text.to_lowercase()),
            Kind::Value if token.text != "..." => text.push('?'),
            _ => text.push_str(token.text),
        }
        before = Some(token);
    }
    text
}

fn spaced(before: &Token, token: &Token) -> bool {
    // Written together, they would be read back as a cast with a colon behind it.
    if before.text == ":" && token.text.starts_with(':') {
        return true;
    }
    let tight_after = before.kind == Kind::Sign && matches!(before.text, "(" | "[" | "." | "::");
    let tight_before = token.kind == Kind::Sign && matches!(token.text, ")" | "]" | "," | ";" | "." | "::");
    if tight_after || tight_before {
        return before.text == "." && token.text == ".";
    }
    let opens = token.kind == Kind::Sign && matches!(token.text, "(" | "[");
    let calls = match before.kind {
        Kind::Word => !groups(before.text) || before.text.eq_ignore_ascii_case("array"),
        Kind::Quoted => true,
        Kind::Value | Kind::Sign => false,
    };
    !(opens && calls)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[track_caller]
    fn folds(statement: &str, family: &str) {
        assert_eq!(fold(statement).text, family);
        assert_eq!(fold(family).text, family, "folding again changed it");
    }

    #[test]
    fn literals_of_every_kind_become_a_question_mark() {
        folds(
            "SELECT 1, -2.5e-3, 'it''s', E'a\\'b', $$x$$, $t$ y $t$, $1, B'01', .5",
            "select ?, ?, ?, ?, ?, ?, ?, ?, ?",
        );
        folds("select a-1, a - -1, (a)-1", "select a - ?, a - ?, (a) - ?");
        folds("select now() - interval '15 minutes'", "select now() - interval ?");
    }

    #[test]
    fn lists_of_literals_become_one() {
        folds("select 1 from deck where id in (1,2,3)", "select ? from deck where id in (?, ...)");
        folds("select 1 from deck where id = any(array[1, 2])", "select ? from deck where id = any (array[?, ...])");
        folds("insert into deck values (1,'a'), (2,'b'), (3,'c')", "insert into deck values (?, ?), ...");
        folds("insert into deck values (1, now())", "insert into deck values (?, now())");
        folds("select 1 where id in (1, other)", "select ? where id in (?, other)");
    }

    #[test]
    fn white_space_comments_and_case_fold_and_quoted_names_do_not() {
        folds(
            "SELECT /* all */ \"Deck\".Metre\n\tFROM \"Deck\"  where metre>=3 ;",
            "select \"Deck\".metre from \"Deck\" where metre >= ?",
        );
        assert_ne!(fold("select 1 from \"Deck\"").text, fold("select 1 from deck").text);
        folds("select count( * ) from deck", "select count(*) from deck");
        folds("select a::text||'x' from deck", "select a::text || ? from deck");
    }

    #[test]
    fn the_tag_is_kept_beside_the_family() {
        assert_eq!(fold("/* gate:list */ select 1").tag.as_deref(), Some("gate:list"));
        assert_eq!(fold("select 1 -- gate").tag.as_deref(), Some("gate"));
        assert_eq!(fold("select /* inner */ 1").tag, None);
        assert_eq!(fold("/* gate */ select 1").text, fold("select 2").text);
    }

    #[test]
    fn text_that_is_cut_short_or_no_sql_at_all_is_folded_too() {
        folds("select * from deck where name = 'nort", "select * from deck where name = ?");
        folds("select $abc", "select $ abc");
        folds("/* open", "");
        folds("a : :: b", "a : ::b");
        folds("sélect ☃ from ñandú", "sélect ☃ from ñandú");
    }

    fn literal() -> impl Strategy<Value = String> {
        prop_oneof![
            any::<i32>().prop_map(|number| number.to_string()),
            (0.0f64..1e6).prop_map(|number| format!("{number:.3}")),
            "[a-z '\\-/*$?]{0,12}".prop_map(|text| format!("'{}'", text.replace('\'', "''"))),
        ]
    }

    proptest! {
        #[test]
        fn folding_twice_is_folding_once(text in "[ -~\\n]{0,80}") {
            let once = fold(&text).text;
            prop_assert_eq!(&fold(&once).text, &once);
        }

        #[test]
        fn any_text_is_folded_without_panic(text in any::<String>()) {
            fold(&text);
        }

        #[test]
        fn only_literals_differ_then_the_family_does_not(a in literal(), b in literal(), c in literal(), d in literal()) {
            let statement = |x: &str, y: &str| {
                format!("select fare, metre - {x} from passage where state = {y} and metre in ({x}, {y}) limit {x}")
            };
            prop_assert_eq!(fold(&statement(&a, &b)).text, fold(&statement(&c, &d)).text);
        }

        #[test]
        fn other_names_are_other_families(a in "[a-z]{1,8}", b in "[a-z]{1,8}") {
            prop_assume!(a != b);
            let family = |name: &str| fold(&format!("select 1 from t_{name}")).fingerprint();
            prop_assert_ne!(family(&a), family(&b));
        }
    }
}
