/// Where the statement counters are and which of their columns there are.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct StatementView {
    pub schema: String,
    /// Whether it tells which statements functions ran.
    pub has_top_level: bool,
    /// Whether it tells resets and how often entries were thrown out.
    pub has_info: bool,
    /// Whether it tells since when it has counted each statement.
    pub has_begin: bool,
    pub read_time: &'static str,
    pub write_time: &'static str,
}
