/// A name as an identifier in SQL: the one function that does so.
pub fn quote(name: &str) -> String {
    let plain = name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    if plain && !RESERVED.contains(&name) { name.to_owned() } else { format!("\"{}\"", name.replace('"', "\"\"")) }
}

/// Words that are no names unless quoted (PostgreSQL 18, appendix C: reserved, with or without exception).
const RESERVED: [&str; 100] = [
    "all",
    "analyse",
    "analyze",
    "and",
    "any",
    "array",
    "as",
    "asc",
    "asymmetric",
    "authorization",
    "binary",
    "both",
    "case",
    "cast",
    "check",
    "collate",
    "collation",
    "column",
    "concurrently",
    "constraint",
    "create",
    "cross",
    "current_catalog",
    "current_date",
    "current_role",
    "current_schema",
    "current_time",
    "current_timestamp",
    "current_user",
    "default",
    "deferrable",
    "desc",
    "distinct",
    "do",
    "else",
    "end",
    "except",
    "false",
    "fetch",
    "for",
    "foreign",
    "freeze",
    "from",
    "full",
    "grant",
    "group",
    "having",
    "ilike",
    "in",
    "initially",
    "inner",
    "intersect",
    "into",
    "is",
    "isnull",
    "join",
    "lateral",
    "leading",
    "left",
    "like",
    "limit",
    "localtime",
    "localtimestamp",
    "natural",
    "not",
    "notnull",
    "null",
    "offset",
    "on",
    "only",
    "or",
    "order",
    "outer",
    "overlaps",
    "placing",
    "primary",
    "references",
    "returning",
    "right",
    "select",
    "session_user",
    "similar",
    "some",
    "symmetric",
    "system_user",
    "table",
    "tablesample",
    "then",
    "to",
    "trailing",
    "true",
    "union",
    "unique",
    "user",
    "using",
    "variadic",
    "verbose",
    "when",
    "where",
    "window",
];

#[cfg(test)]
mod tests {
    use super::quote;

    #[test]
    fn names_are_quoted_where_they_must_be() {
        assert_eq!(quote("passage_leg"), "passage_leg");
        assert_eq!(quote("Passage"), "\"Passage\"");
        assert_eq!(quote("a\"; drop table x; --"), "\"a\"\"; drop table x; --\"");
        assert_eq!(quote("order"), "\"order\"");
        assert_eq!(quote("2nd"), "\"2nd\"");
        assert_eq!(quote(""), "\"\"");
    }
}
