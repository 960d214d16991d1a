//! Lists and rows of values fold into one.

use super::scan::{Kind, Token};

/// Lists within lists are looked into so deep.
const DEEPEST: usize = 8;

/// Folds lists of values after `in`, rows of `values` and elements of `array`: of those that are alike one is kept.
pub(super) fn collapse(tokens: Vec<Token<'_>>) -> Vec<Token<'_>> {
    let mut kept = Vec::new();
    match collapse_into(&tokens, 0, &mut kept) {
        0 => tokens,
        behind => {
            kept.extend_from_slice(&tokens[behind..]);
            kept
        }
    }
}

/// Keeps tokens up to the end of the last list that was folded, which it tells: 0 where there was none.
fn collapse_into<'a>(tokens: &[Token<'a>], depth: usize, kept: &mut Vec<Token<'a>>) -> usize {
    let (mut at, mut behind) = (1, 0);
    while at < tokens.len() && depth < DEEPEST {
        let before = &tokens[at - 1];
        let folded = match tokens[at].sign() {
            b"(" if before.is("in") => list(tokens, at, depth),
            b"[" if before.is("array") => list(tokens, at, depth),
            b"(" if before.is("values") => rows(tokens, at, depth),
            _ => None,
        };
        if let Some((list, end)) = folded {
            kept.reserve(tokens.len() - behind);
            kept.extend_from_slice(&tokens[behind..at]);
            kept.extend_from_slice(&list);
            (at, behind) = (end, end);
        }
        at += 1;
    }
    behind
}

/// Elements between brackets, up to the one that closes or the end of a text that was cut short.
struct Elements<'t, 'a> {
    found: Vec<&'t [Token<'a>]>,
    /// Where the text goes on; nothing where it was cut short.
    end: Option<usize>,
}

/// Splits what stands in the bracket at `start` by its commas.
fn elements<'t, 'a>(tokens: &'t [Token<'a>], start: usize) -> Elements<'t, 'a> {
    let (mut found, mut depth, mut from) = (Vec::new(), 0_usize, start + 1);
    for (at, token) in tokens.iter().enumerate().skip(start) {
        match token.sign() {
            b"(" | b"[" => depth += 1,
            b")" | b"]" => {
                depth -= 1;
                if depth == 0 {
                    found.push(&tokens[from..at]);
                    return Elements { found, end: Some(at + 1) };
                }
            }
            b"," if depth == 1 => {
                found.push(&tokens[from..at]);
                from = at + 1;
            }
            _ => {}
        }
    }
    found.push(&tokens[from..]);
    Elements { found, end: None }
}

fn is_ellipsis(element: &[Token]) -> bool {
    matches!(element, [token] if token.text == "...")
}

/// One of each shape of the elements, folded themselves, in order of their first appearance.
fn shapes<'a>(elements: &[&[Token<'a>]], depth: usize) -> Vec<Vec<Token<'a>>> {
    let mut shapes: Vec<Vec<Token>> = Vec::new();
    let mut has_plain = false;
    for element in elements.iter().filter(|element| !is_ellipsis(element)) {
        // Most are plain values.
        if let [token] = element
            && token.kind == Kind::Value
        {
            if !has_plain {
                has_plain = true;
                shapes.push(vec![*token]);
            }
            continue;
        }
        let mut folded = Vec::with_capacity(element.len());
        if element.first().is_some_and(|token| token.text == "[") {
            // A line of an array of several dimensions.
            match list(element, 0, depth + 1) {
                Some((list, end)) if end == element.len() => folded = list,
                _ => folded.extend_from_slice(element),
            }
        } else {
            let behind = collapse_into(element, depth + 1, &mut folded);
            folded.extend_from_slice(&element[behind..]);
        }
        let is_like = |shape: &Vec<Token>| {
            shape.len() == folded.len() && shape.iter().zip(&folded).all(|(one, other)| one.is_like(other))
        };
        if !shapes.iter().any(is_like) {
            shapes.push(folded);
        }
    }
    shapes
}

fn sign(text: &'static str) -> Token<'static> {
    Token { kind: Kind::Sign, text }
}

fn joined<'a>(shapes: Vec<Vec<Token<'a>>>) -> Vec<Token<'a>> {
    let mut list = Vec::new();
    for (place, shape) in shapes.into_iter().enumerate() {
        if place > 0 {
            list.push(sign(","));
        }
        list.extend(shape);
    }
    list
}

/// A list of plain values, folded, and where it ends: what most lists are.
fn plain_list<'a>(tokens: &[Token<'a>], start: usize) -> Option<(Vec<Token<'a>>, usize)> {
    let pairs = tokens[start + 1..].chunks_exact(2);
    let are_values = |pair: &&[Token]| pair[0].kind == Kind::Value && pair[0].text != "...";
    let commas = pairs.clone().take_while(|pair| are_values(pair) && pair[1].sign() == b",").count();
    let last = pairs.clone().nth(commas).filter(|pair| are_values(pair) && matches!(pair[1].sign(), b")" | b"]"))?;
    let ellipsis = Token { kind: Kind::Value, text: "..." };
    Some((vec![tokens[start], last[0], sign(","), ellipsis, last[1]], start + 1 + 2 * (commas + 1)))
}

/// A list of nothing but values, folded, and where it ends.
fn list<'a>(tokens: &[Token<'a>], start: usize, depth: usize) -> Option<(Vec<Token<'a>>, usize)> {
    if depth > DEEPEST {
        return None;
    }
    if let Some(folded) = plain_list(tokens, start) {
        return Some(folded);
    }
    let Elements { mut found, end } = elements(tokens, start);
    if end.is_none() && found.len() > 1 {
        // It was cut within the last one.
        found.pop();
    }
    if !found.iter().all(|element| is_of_values(element)) {
        return None;
    }
    let mut folded = vec![tokens[start]];
    folded.extend(joined(shapes(&found, depth)));
    if folded.len() > 1 {
        folded.push(sign(","));
    }
    folded.push(Token { kind: Kind::Value, text: "..." });
    if let Some(end) = end {
        folded.push(tokens[end - 1]);
    }
    Some((folded, end.unwrap_or(tokens.len())))
}

/// Rows of `values`, of each shape one, and where they end. Whatever stands in them.
fn rows<'a>(tokens: &[Token<'a>], start: usize, depth: usize) -> Option<(Vec<Token<'a>>, usize)> {
    let mut found = Vec::new();
    let mut at = start;
    let end = loop {
        let Some(end) = elements(tokens, at).end else {
            // Cut within this row: those before it tell its shape.
            if found.is_empty() {
                return None;
            }
            break tokens.len();
        };
        found.push(&tokens[at..end]);
        match (tokens.get(end), tokens.get(end + 1)) {
            (Some(comma), Some(next)) if comma.text == "," && next.text == "(" => at = end + 1,
            (Some(comma), Some(next)) if comma.text == "," && next.text == "..." => break end + 2,
            (Some(comma), None) if comma.text == "," => break end + 1,
            _ => break end,
        }
    };
    Some((joined(shapes(&found, depth)), end))
}

/// Whether nothing but values, casts, rows, arrays and calls of functions with these stands there: no column.
fn is_of_values(element: &[Token]) -> bool {
    let mut has_value = false;
    for (at, token) in element.iter().enumerate() {
        let before = at.checked_sub(1).map(|before| element[before].text);
        let next = element.get(at + 1);
        let is_fine = match token.kind {
            Kind::Value => true,
            Kind::Sign => token.text != "*",
            Kind::Word | Kind::Quoted => {
                let is_of_type = matches!(before, Some("::" | ".")) || is_within_type(element, at);
                let calls = next.is_some_and(|next| next.text == "(" || next.text == "." || next.text == "[");
                let types = next.is_some_and(|next| next.kind == Kind::Value || next.text == "?");
                let is_constant =
                    ["default", "current_date", "current_time", "current_timestamp", "localtime", "localtimestamp"]
                        .iter()
                        .any(|constant| token.is(constant));
                is_of_type || calls || types || is_constant
            }
        };
        if !is_fine || token.is("select") || token.is("with") {
            return false;
        }
        has_value |= token.kind == Kind::Value;
    }
    has_value || element.first().is_some_and(|token| token.is("default"))
}

/// Within the name of a type of several words, such as `::timestamp with time zone`.
fn is_within_type(element: &[Token], at: usize) -> bool {
    let words = element[..at].iter().rev().take_while(|token| matches!(token.kind, Kind::Word | Kind::Quoted)).count();
    words > 0 && element[..at - words].last().is_some_and(|token| token.text == "::")
}
