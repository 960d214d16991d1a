use strum::{EnumString, IntoStaticStr, VariantArray};

/// How collection of an instance stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum CollectionState {
    /// Nothing was read yet.
    Waiting,
    /// Figures arrive.
    Collecting,
    /// Something stands in the way.
    Failing,
}
