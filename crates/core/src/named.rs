//! Closed sets whose members have a name: one word in the code, the repository, the API and on the pages.

use std::str::FromStr;

use strum::VariantArray;

/// A closed set whose members have names. Whatever derives `IntoStaticStr`, `EnumString` and `VariantArray` of `strum`
/// is one.
pub trait Named: Copy + Into<&'static str> + FromStr + VariantArray {
    /// The member's name.
    fn name(self) -> &'static str {
        self.into()
    }

    /// The member of that name.
    fn named(name: &str) -> Option<Self> {
        name.parse().ok()
    }

    /// All members, in order.
    fn all() -> impl Iterator<Item = Self> + Clone {
        Self::VARIANTS.iter().copied()
    }

    /// The names of all members with commas between them: for whoever gave another one.
    fn names() -> String {
        Self::all().map(Named::name).collect::<Vec<_>>().join(", ")
    }
}

impl<T: Copy + Into<&'static str> + FromStr + VariantArray> Named for T {}
