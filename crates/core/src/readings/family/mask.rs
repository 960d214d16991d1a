//! Statements and tags without their literals.

use std::fmt::Write;

use super::scan::{Kind, Token, scan};

/// A statement as it was written, but with parameters in place of literals, and without comments. Numbers that are
/// part of the name of a type or tell the place of a column stay: the server itself would not let parameters stand
/// there.
pub fn masked(statement: &str) -> String {
    let (tokens, _) = scan(statement, statement);
    let given = tokens.iter().filter_map(|token| token.text.strip_prefix('$')?.parse::<u32>().ok());
    let mut parameter = given.max().unwrap_or_default();
    let mut text = String::with_capacity(statement.len());
    let mut behind = 0;
    for (place, token) in tokens.iter().enumerate() {
        let start = token.text.as_ptr() as usize - statement.as_ptr() as usize;
        let gap = &statement[behind..start];
        // Whatever is not white space there is a comment.
        text.push_str(if gap.trim().is_empty() { gap } else { " " });
        behind = start + token.text.len();
        if is_literal(&tokens, place) {
            parameter = parameter.saturating_add(1);
            // A word that touches it would become part of it, and a formatter never fails on a string.
            let _ = write!(text, "${parameter}");
            if statement[behind..].starts_with(|next: char| next.is_alphanumeric() || next == '_') {
                text.push(' ');
            }
        } else {
            text.push_str(token.text);
        }
    }
    text.trim().to_owned()
}

fn is_literal(tokens: &[Token], place: usize) -> bool {
    let token = &tokens[place];
    let is_told = ["true", "false", "null", "?", "..."].iter().any(|told| token.is(told));
    if token.kind != Kind::Value || is_told {
        return false;
    }
    // `$1`, as opposed to a literal between dollar signs.
    if token.text.strip_prefix('$').is_some_and(|number| number.bytes().all(|byte| byte.is_ascii_digit())) {
        return false;
    }
    let is_short_number = token.text.len() <= 4 && token.text.bytes().all(|byte| byte.is_ascii_digit());
    !(is_short_number && (is_of_type(tokens, place) || is_place_of_column(tokens, place)))
}

/// As in `::numeric(10, 2)` and `cast(… as varchar(20))`.
fn is_of_type(tokens: &[Token], place: usize) -> bool {
    let before = tokens[..place].iter().rev();
    let mut before = before.skip_while(|token| token.kind == Kind::Value || token.text == ",");
    before.next().is_some_and(|token| token.text == "(")
        && before
            .find(|token| token.kind != Kind::Word || token.is("as"))
            .is_some_and(|token| token.text == "::" || token.is("as"))
}

/// As in `order by 2 desc, 1`.
fn is_place_of_column(tokens: &[Token], place: usize) -> bool {
    let ends = tokens.get(place + 1).is_none_or(|next| {
        let words = ["asc", "desc", "nulls", "limit", "offset", "fetch", "having", "order", "union", "for", "window"];
        matches!(next.text, "," | ")" | ";") || words.iter().any(|word| next.is(word))
    });
    let mut before = tokens[..place].iter().rev();
    match before.next() {
        Some(token) if token.is("by") => ends,
        Some(token) if token.text == "," => {
            ends && before
                .find(|token| matches!(token.text, "(" | ")") || token.is("by") || token.is("select"))
                .is_some_and(|token| token.is("by"))
        }
        _ => false,
    }
}

/// A tag without what may be a value in it: what stands in quotes, and every word with a digit or an at-sign.
pub fn mask_tag(tag: &str) -> String {
    let mut text = String::with_capacity(tag.len());
    let mut rest = tag;
    while let Some(first) = rest.chars().next() {
        let length = match first {
            '\'' | '"' => rest[1..].find(first).map_or(rest.len(), |end| end + 2),
            _ if is_of_tag_word(first) => rest.find(|sign| !is_of_tag_word(sign)).unwrap_or(rest.len()),
            _ => first.len_utf8(),
        };
        let (piece, more) = rest.split_at(length);
        let is_value = matches!(first, '\'' | '"') || piece.contains(|sign: char| sign.is_numeric() || sign == '@');
        text.push_str(if is_value { "?" } else { piece });
        rest = more;
    }
    text
}

fn is_of_tag_word(sign: char) -> bool {
    sign.is_alphanumeric() || matches!(sign, '_' | '-' | '@' | '.' | '%' | '+')
}
