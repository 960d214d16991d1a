use strum::{EnumString, IntoStaticStr, VariantArray};

/// What the figures of an instance come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Engine {
    /// A PostgreSQL server.
    Postgres,
    /// A model that behaves like a server.
    Simulated,
    /// Bundles brought in; nothing is collected.
    Bundle,
}
