use hurnix_core::readings::figures::Figures;

/// Figures that servers before a version do not give.
pub(super) struct Missing {
    /// The first version that gives them, as a number such as 140000.
    pub since: i32,
    /// Which figures, in words.
    pub figures: &'static str,
    /// The kind that they are of.
    pub concerns: Figures,
    /// Whether that is all of the kind.
    pub in_whole: bool,
    /// Why, and what is lost by it.
    pub reason: &'static str,
}
