//! Literal floods: statements that differ in literals only, and that the server keeps as statements of their own.
//!
//! Each text takes a place in the server's list of statements, memory, and mostly a plan of its own, and throws others out
//! when the list is full. A family with a few texts is none: lists of other lengths and other quotes are texts of one
//! family as well.

/// Texts of one family from which it is a flood.
pub const LEAST_TEXTS: u32 = 100;

/// Entries of one family in a server's list of statements.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct TextsOfFamily {
    /// Entries.
    pub texts: u32,
    /// Bytes of their texts.
    pub text_bytes: u64,
}

impl TextsOfFamily {
    /// Adds an entry.
    pub fn add(&mut self, text_bytes: u64) {
        self.texts += 1;
        self.text_bytes += text_bytes;
    }

    /// Whether they are a flood.
    pub fn is_flood(&self) -> bool {
        self.texts >= LEAST_TEXTS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_many_texts_of_one_family() {
        let mut family = TextsOfFamily::default();
        (1..LEAST_TEXTS).for_each(|_| family.add(70));
        assert!(!family.is_flood(), "{family:?}");
        family.add(70);
        assert!(family.is_flood());
        assert_eq!(family.text_bytes, 7_000);
    }
}
