//! What somebody has chosen for the pages: it follows the account from browser to browser.

use std::collections::HashSet;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// Most instances that are pinned.
pub const MOST_PINNED: usize = 200;
/// Most groups that are folded.
pub const MOST_FOLDED: usize = 500;
/// Most boards.
pub const MOST_BOARDS: usize = 50;
/// Most figures of a board.
pub const MOST_ON_BOARD: usize = 40;
/// Longest name on a board, in letters.
pub const MOST_BOARD_LETTERS: usize = 200;

/// In which order the roster lists instances.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum RosterOrder {
    /// The most urgent first.
    #[default]
    Urgency,
    /// By label.
    Label,
}

/// What somebody has chosen. What is left out is as usual.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Preferences {
    /// Instances that stand first on the roster, in this order; 200 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 200, required = true))]
    pub pinned: Vec<i32>,
    /// Groups of the roster whose instances are folded away; 500 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 500, required = true))]
    pub folded_groups: Vec<String>,
    /// Order of the roster.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub order: RosterOrder,
    /// Boards that were put together; 50 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 50, required = true))]
    pub boards: Vec<Board>,
}

/// Figures of any instances that somebody looks at together, on one axis.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Board {
    /// Its name.
    #[cfg_attr(feature = "schema", schema(max_length = 200))]
    pub name: String,
    /// What stands on it, from top to bottom; 40 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 40))]
    pub figures: Vec<BoardFigure>,
}

/// A figure on a board.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BoardFigure {
    /// Label of its instance.
    #[cfg_attr(feature = "schema", schema(max_length = 200))]
    pub instance: String,
    /// Name of the figure.
    #[cfg_attr(feature = "schema", schema(max_length = 200))]
    pub figure: String,
    /// Its object; empty for the server as a whole.
    #[cfg_attr(feature = "schema", schema(max_length = 200))]
    pub object: String,
}

/// What is wrong with a board.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NoBoard {
    /// It has no name, or several have the same.
    #[error("give each board a name of its own, of {MOST_BOARD_LETTERS} letters at most")]
    Name,
    /// Too much stands on it.
    #[error("put {MOST_ON_BOARD} figures on a board at most, with names of {MOST_BOARD_LETTERS} letters at most")]
    Figures,
    /// There are too many.
    #[error("keep {MOST_BOARDS} boards at most")]
    TooMany,
}

/// Whether boards can be kept.
///
/// # Errors
/// Says what is wrong with one of them.
pub fn check_boards(boards: &[Board]) -> Result<(), NoBoard> {
    let is_good = |text: &str| text.chars().count() <= MOST_BOARD_LETTERS && !text.contains('\0');
    let names: HashSet<&str> = boards.iter().map(|board| board.name.trim()).collect();
    if boards.len() > MOST_BOARDS {
        return Err(NoBoard::TooMany);
    }
    if names.len() < boards.len() || names.iter().any(|name| name.is_empty() || !is_good(name)) {
        return Err(NoBoard::Name);
    }
    let is_good_figure =
        |figure: &BoardFigure| is_good(&figure.instance) && is_good(&figure.figure) && is_good(&figure.object);
    let fits = |board: &Board| board.figures.len() <= MOST_ON_BOARD && board.figures.iter().all(is_good_figure);
    if boards.iter().all(fits) { Ok(()) } else { Err(NoBoard::Figures) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boards_have_names_of_their_own_and_bounds() {
        let board = |name: &str, figures: usize| Board {
            name: name.into(),
            figures: vec![BoardFigure { instance: "gate-north".into(), ..BoardFigure::default() }; figures],
        };
        assert_eq!(check_boards(&[board("gates", 2), board("ferries", MOST_ON_BOARD)]), Ok(()));
        assert_eq!(check_boards(&[board("gates", 2), board("gates ", 2)]), Err(NoBoard::Name));
        assert_eq!(check_boards(&[board("", 2)]), Err(NoBoard::Name));
        assert_eq!(check_boards(&[board("gates", MOST_ON_BOARD + 1)]), Err(NoBoard::Figures));
        let many: Vec<Board> = (0..=MOST_BOARDS).map(|at| board(&at.to_string(), 1)).collect();
        assert_eq!(check_boards(&many), Err(NoBoard::TooMany));
    }
}
