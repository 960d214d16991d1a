use memchr::memchr;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// Keyword or unquoted identifier.
    Word,
    /// Quoted identifier.
    Quoted,
    /// Literal, parameter, or a folded one.
    Value,
    /// One or more signs that belong together.
    Sign,
}

#[derive(Debug, Clone, Copy)]
pub(super) struct Token<'a> {
    pub kind: Kind,
    pub text: &'a str,
}

impl Token<'_> {
    /// The same in a family: values are alike, and so are words in any case.
    pub fn is_like(&self, other: &Token) -> bool {
        match (self.kind, other.kind) {
            (Kind::Value, Kind::Value) => (self.text == "...") == (other.text == "..."),
            (Kind::Word, Kind::Word) => self.text.eq_ignore_ascii_case(other.text),
            _ => self.text == other.text,
        }
    }

    /// The bytes of a sign; nothing of another token.
    pub fn sign(&self) -> &[u8] {
        if self.kind == Kind::Sign { self.text.as_bytes() } else { b"" }
    }

    pub fn is(&self, word: &str) -> bool {
        self.kind != Kind::Quoted && self.text.eq_ignore_ascii_case(word)
    }
}

/// Longest of the words below.
const LONGEST_GROUPING: usize = 9;

/// Words after which an opening bracket begins a group, not a call, and a minus sign a number.
pub(super) fn groups(word: &str) -> bool {
    let mut lower = [0_u8; LONGEST_GROUPING];
    let Some(lower) = lower.get_mut(..word.len()) else { return false };
    lower.copy_from_slice(word.as_bytes());
    lower.make_ascii_lowercase();
    matches!(
        &*lower,
        b"all"
            | b"and"
            | b"any"
            | b"array"
            | b"as"
            | b"between"
            | b"by"
            | b"case"
            | b"distinct"
            | b"else"
            | b"except"
            | b"exists"
            | b"from"
            | b"having"
            | b"ilike"
            | b"in"
            | b"intersect"
            | b"is"
            | b"like"
            | b"limit"
            | b"not"
            | b"offset"
            | b"on"
            | b"or"
            | b"over"
            | b"return"
            | b"select"
            | b"set"
            | b"some"
            | b"then"
            | b"union"
            | b"values"
            | b"when"
            | b"where"
    )
}

/// Further words behind which a value stands, so that a minus sign there belongs to a number.
const WORDS_BEFORE_VALUES: [&str; 5] = ["default", "escape", "for", "returning", "to"];

/// What a byte can begin or go on with.
#[derive(Clone, Copy, PartialEq)]
enum Class {
    Space,
    /// Begins a word and goes on with it.
    Letter,
    /// A digit or a dollar sign, which goes on with a word.
    GoesOn,
    /// A sign that always stands by itself.
    Single,
    Other,
}

/// Looked up, since this is asked of every byte.
const CLASSES: [Class; 256] = {
    let mut classes = [Class::Other; 256];
    let mut at = 0;
    while at < 256 {
        let byte = at as u8;
        classes[at] = match byte {
            _ if byte.is_ascii_whitespace() => Class::Space,
            _ if is_word(byte) => Class::Letter,
            b'0'..=b'9' | b'$' => Class::GoesOn,
            b'(' | b')' | b'[' | b']' | b',' | b';' => Class::Single,
            _ => Class::Other,
        };
        at += 1;
    }
    classes
};

fn class(byte: u8) -> Class {
    CLASSES[usize::from(byte)]
}

/// Splits a statement into tokens, with its tag; white space and comments fall away. Words are cut from `words`: the
/// statement, or the same with other case.
///
/// Whether a backslash in a plain literal escapes the quote behind it is a setting of the session
/// (`standard_conforming_strings`), and the text does not tell. It is read in the way in which it looks less broken.
pub(super) fn scan<'a>(statement: &'a str, words: &'a str) -> (Vec<Token<'a>>, Option<&'a str>) {
    let plain = Scanner::new(statement, words, false).run();
    let doubtful = plain.doubtful;
    let best = if doubtful > 0 && memchr(b'\\', statement.as_bytes()).is_some() {
        let escaping = Scanner::new(statement, words, true).run();
        if escaping.doubtful < doubtful { escaping } else { plain }
    } else {
        plain
    };
    let mut tokens = best.tokens;
    while tokens.last().is_some_and(|token| token.text == ";") {
        tokens.pop();
    }
    (tokens, best.leading.or(best.trailing).map(str::trim).filter(|tag| !tag.is_empty()))
}

struct Scanner<'a> {
    statement: &'a str,
    words: &'a str,
    bytes: &'a [u8],
    at: usize,
    escapes: bool,
    tokens: Vec<Token<'a>>,
    leading: Option<&'a str>,
    trailing: Option<&'a str>,
    /// Signs that literals were taken for what they are not.
    doubtful: usize,
}

impl<'a> Scanner<'a> {
    fn new(statement: &'a str, words: &'a str, escapes: bool) -> Self {
        let bytes = statement.as_bytes();
        let tokens = Vec::with_capacity(bytes.len() / 4);
        Scanner { statement, words, bytes, at: 0, escapes, tokens, leading: None, trailing: None, doubtful: 0 }
    }

    fn run(mut self) -> Self {
        while let Some(&byte) = self.bytes.get(self.at) {
            let start = self.at;
            let kind = match class(byte) {
                Class::Space => {
                    self.at += 1;
                    continue;
                }
                Class::Letter => self.word(),
                Class::Single => {
                    self.at += 1;
                    Kind::Sign
                }
                Class::GoesOn | Class::Other if comment_starts(self.bytes, start) => {
                    self.comment();
                    continue;
                }
                Class::GoesOn | Class::Other => self.token(byte),
            };
            self.trailing = None;
            let from = if kind == Kind::Word { self.words } else { self.statement };
            self.tokens.push(Token { kind, text: &from[start..self.at] });
        }
        self
    }

    fn comment(&mut self) {
        let start = self.at;
        let text = if self.bytes[start] == b'-' {
            self.at = find(self.bytes, start, b"\n");
            &self.statement[start + 2..self.at]
        } else {
            self.at = block_comment_end(self.bytes, start);
            self.statement[start + 2..self.at].trim_end_matches("*/")
        };
        let place = if self.tokens.is_empty() { &mut self.leading } else { &mut self.trailing };
        if place.is_none() {
            *place = Some(text);
        }
    }

    /// Passes over the token that starts with this byte, which is neither a word nor a sign that stands by itself.
    fn token(&mut self, byte: u8) -> Kind {
        let (bytes, start) = (self.bytes, self.at);
        let next = bytes.get(start + 1).copied().unwrap_or(0);
        match byte {
            b'\'' => {
                self.string(start, self.escapes);
                Kind::Value
            }
            b'"' => {
                self.at = quoted_end(bytes, start, b'"', false).0;
                Kind::Quoted
            }
            b'$' => {
                self.at = dollar_end(bytes, start);
                if self.at > start + 1 { Kind::Value } else { Kind::Sign }
            }
            // Behind another one it is the second of two operands at most, and only the operator has a further sign.
            b'?' if self.expects_operand() && !(matches!(next, b'|' | b'&') && self.follows("?")) => {
                self.at += 1;
                Kind::Value
            }
            // An operator of JSON and others.
            b'?' => {
                self.at += 1 + usize::from(matches!(next, b'|' | b'&'));
                Kind::Sign
            }
            b'@' if next == b'?' => {
                self.at += 2;
                Kind::Sign
            }
            b'0'..=b'9' => {
                self.at = number_end(bytes, start);
                Kind::Value
            }
            b'.' if next.is_ascii_digit() && !self.follows_name() => {
                self.at = number_end(bytes, start);
                Kind::Value
            }
            b'.' if bytes[start..].starts_with(b"...") => {
                self.at += 3;
                Kind::Value
            }
            b'-' | b'+' if starts_number(bytes, start + 1) && self.expects_operand() => {
                self.at += 1;
                while bytes.get(self.at).is_some_and(u8::is_ascii_whitespace) {
                    self.at += 1;
                }
                self.at = number_end(bytes, self.at);
                Kind::Value
            }
            b'.' => {
                self.at += 1;
                Kind::Sign
            }
            b':' => {
                self.at += if next == b':' { 2 } else { 1 };
                Kind::Sign
            }
            _ => {
                self.doubtful += usize::from(byte == b'\\');
                self.at += 1;
                while let Some(&more) = bytes.get(self.at)
                    && is_operator(more)
                    && is_operator(byte)
                    && !comment_starts(bytes, self.at)
                    && !(matches!(more, b'-' | b'+') && starts_number(bytes, self.at + 1))
                    && !(more == b'@' && bytes.get(self.at + 1) == Some(&b'?'))
                {
                    self.at += 1;
                }
                Kind::Sign
            }
        }
    }

    fn word(&mut self) -> Kind {
        let (bytes, start) = (self.bytes, self.at);
        let goes_on = |byte: &&u8| matches!(class(**byte), Class::Letter | Class::GoesOn);
        self.at += bytes[start..].iter().take_while(goes_on).count();
        match &bytes[start..self.at] {
            // A letter that announces what kind of literal follows.
            [letter @ (b'e' | b'E' | b'b' | b'B' | b'x' | b'X' | b'n' | b'N')]
                if bytes.get(self.at) == Some(&b'\'') =>
            {
                self.string(self.at, letter.eq_ignore_ascii_case(&b'e') || self.escapes);
                Kind::Value
            }
            b"u" | b"U" if bytes[self.at..].starts_with(b"&'") => {
                self.string(self.at + 1, self.escapes);
                self.escape_clause();
                Kind::Value
            }
            word if (4..=5).contains(&word.len()) && self.is_literal(word) => Kind::Value,
            _ => Kind::Word,
        }
    }

    /// Passes over a literal in quotes that starts here, with its further lines.
    fn string(&mut self, quote: usize, escapes: bool) {
        let (bytes, mut start) = (self.bytes, quote);
        let directly_behind = quote == self.at && quote > 0 && is_of_word(bytes[quote - 1]);
        self.doubtful += usize::from(directly_behind);
        loop {
            let (end, is_closed) = quoted_end(bytes, start, b'\'', escapes);
            self.at = end;
            let touched = bytes.get(end).is_some_and(|next| is_of_word(*next) || *next == b'\\');
            self.doubtful += usize::from(!is_closed) + usize::from(touched);
            // A literal goes on behind the end of a line.
            let gap = bytes[end..].iter().take_while(|byte| byte.is_ascii_whitespace()).count();
            let goes_on = bytes.get(end + gap) == Some(&b'\'') && bytes[end..end + gap].contains(&b'\n');
            if !goes_on {
                return;
            }
            start = end + gap;
        }
    }

    /// Passes over `UESCAPE '…'` behind a literal of Unicode escapes.
    fn escape_clause(&mut self) {
        let rest = self.statement[self.at..].trim_start();
        if let Some(clause) = rest.get(..7).filter(|word| word.eq_ignore_ascii_case("uescape")) {
            let rest = &rest[clause.len()..];
            let quote = self.bytes.len() - rest.trim_start().len();
            if self.bytes.get(quote) == Some(&b'\'') {
                self.at = quoted_end(self.bytes, quote, b'\'', false).0;
            }
        }
    }

    /// `true`, `false` and `null` where a value can stand, as opposed to `is null`, `not null` and `set null`.
    fn is_literal(&self, word: &[u8]) -> bool {
        let is = |literal: &[u8]| word.eq_ignore_ascii_case(literal);
        let is_null = is(b"null");
        if !(is_null || is(b"true") || is(b"false")) {
            return false;
        }
        let mut before = self.tokens.iter().rev();
        match before.next() {
            None => true,
            Some(token) if token.is("is") || token.is("as") || token.text == "." => false,
            Some(token) if token.is("not") => !is_null && !before.next().is_some_and(|token| token.is("is")),
            Some(token) if token.is("set") => !is_null,
            Some(_) => self.expects_operand(),
        }
    }

    fn follows(&self, sign: &str) -> bool {
        self.tokens.last().is_some_and(|token| token.text == sign)
    }

    fn follows_name(&self) -> bool {
        self.tokens.last().is_some_and(|token| matches!(token.kind, Kind::Word | Kind::Quoted) || token.text == ")")
    }

    /// Whether a value or a sign before a number can stand here, as opposed to an operator between two of them.
    fn expects_operand(&self) -> bool {
        match self.tokens.last() {
            None => true,
            Some(token) => match token.kind {
                Kind::Word => {
                    groups(token.text) || WORDS_BEFORE_VALUES.iter().any(|word| word.eq_ignore_ascii_case(token.text))
                }
                Kind::Quoted | Kind::Value => false,
                Kind::Sign => !matches!(token.text, ")" | "]"),
            },
        }
    }
}

const fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80
}

const fn is_of_word(byte: u8) -> bool {
    is_word(byte) || byte.is_ascii_digit()
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
    memchr::memmem::find(&bytes[at..], end).map_or(bytes.len(), |found| at + found)
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

/// The end of what is quoted from here on, and whether it is closed.
fn quoted_end(bytes: &[u8], start: usize, quote: u8, escapes: bool) -> (usize, bool) {
    let mut at = start + 1;
    while at < bytes.len() {
        if escapes && bytes[at] == b'\\' {
            at += 2;
        } else if bytes[at] != quote {
            at += 1;
        } else if bytes.get(at + 1) == Some(&quote) {
            at += 2;
        } else {
            return (at + 1, true);
        }
    }
    (bytes.len(), false)
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
