use sqlparser::ast::{Expr, Ident, ObjectName, ObjectNamePart};

/// The names that a query gives to what it reads, each with the number of the relation.
#[derive(Debug, Default)]
pub(super) struct Frame {
    /// The query that the relations are in.
    pub block: usize,
    /// Names with the relations that they mean.
    pub names: Vec<(String, usize)>,
    /// Names that it gives to queries of its own (`WITH`), with their numbers.
    pub queries: Vec<(String, usize)>,
}

/// A column as it is written.
#[derive(Debug, Clone)]
pub(super) struct Reference {
    pub qualifier: Option<String>,
    pub name: String,
}

/// The column that an expression is.
pub(super) fn reference(expression: &Expr) -> Option<Reference> {
    match expression {
        Expr::Identifier(name) => Some(Reference { qualifier: None, name: folded(name) }),
        Expr::CompoundIdentifier(parts) => match parts.as_slice() {
            [.., qualifier, name] => Some(Reference { qualifier: Some(folded(qualifier)), name: folded(name) }),
            _ => None,
        },
        Expr::Nested(inner) => reference(inner),
        _ => None,
    }
}

/// Schema and name of a table, as they are written.
pub(super) fn split(name: &ObjectName) -> (Option<String>, String) {
    let mut parts: Vec<String> = name
        .0
        .iter()
        .filter_map(|part| match part {
            ObjectNamePart::Identifier(identifier) => Some(folded(identifier)),
            ObjectNamePart::Function(_) => None,
        })
        .collect();
    let bare = parts.pop().unwrap_or_default();
    (parts.pop(), bare)
}

/// Names without quotes have no case.
pub(super) fn folded(name: &Ident) -> String {
    if name.quote_style.is_some() { name.value.clone() } else { name.value.to_lowercase() }
}
