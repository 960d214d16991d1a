use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::{Detail, Kept, Piece, pieces};
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::{Postgres, QueryBuilder};
use strum::VariantArray;

use crate::{Result, Store, at, time};

/// A window with the levels of detail that answer it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pieces {
    window: Window,
    pub(crate) pieces: Vec<Piece>,
}

impl Pieces {
    /// The coarsest level used.
    pub fn coarsest(&self) -> Detail {
        self.pieces.iter().map(|piece| piece.detail).max().unwrap_or(Detail::Fine)
    }

    /// The parts of the window with the level that answers each, in order of time.
    pub fn parts(&self) -> Vec<(Detail, Window)> {
        self.pieces.iter().map(|piece| (piece.detail, piece.window)).collect()
    }

    /// The window that is answered: the one asked for, unless only whole buckets of its ends are kept.
    pub fn window(&self) -> Window {
        match (self.pieces.first(), self.pieces.last()) {
            (Some(first), Some(last)) => Window { from: first.window.from, to: last.window.to },
            _ => self.window,
        }
    }

    /// The rows of each half of its time apart, so that they can be read at once; what is empty is left out.
    pub(crate) fn halves(&self) -> Vec<Pieces> {
        let whole = self.window();
        let middle = Timestamp(whole.from.0.midpoint(whole.to.0));
        let halves = [Window { to: middle, ..whole }, Window { from: middle, ..whole }];
        let within = |half: Window| {
            let clipped = |piece: &Piece| {
                let window = Window { from: piece.window.from.max(half.from), to: piece.window.to.min(half.to) };
                (window.from < window.to).then_some(Piece { window, ..*piece })
            };
            Pieces { window: half, pieces: self.pieces.iter().filter_map(clipped).collect() }
        };
        halves.map(within).into_iter().filter(|half| !half.pieces.is_empty()).collect()
    }
}

/// One kind of rows at its levels of detail.
pub(crate) struct Rows {
    /// How they are kept as they were read.
    pub fine: Fine,
    /// What the tables of sums begin with.
    pub stem: &'static str,
    /// Columns of the tables of sums, separated by commas.
    pub columns: String,
    /// Which of them; of kinds that are kept as lists.
    pub which: Entries,
}

/// Entries of lists.
pub(crate) enum Entries {
    /// All of them.
    All,
    /// All of them, each column of a bucket as one list, by these expressions: whoever sums up many does it faster than
    /// the server.
    InLists(String),
    /// Those with one of these values in this column.
    Only(&'static str, Vec<i64>),
    /// Those with one of these values in the first column, and the sums of all others of a list, with nothing in it.
    AndOthers(Vec<i64>),
}

/// How rows are kept as they were read.
pub(crate) enum Fine {
    /// One by one.
    Rows {
        table: &'static str,
        /// Column of time.
        moment: &'static str,
        /// What stands for the columns of the sums, in their order.
        columns: String,
        /// Further condition.
        condition: &'static str,
    },
    /// A list for each column; their sums likewise.
    Lists { table: &'static str },
}

impl Rows {
    /// Writes the rows of all pieces as a subquery of (`to_at`, columns …).
    pub fn push(&self, sql: &mut QueryBuilder<Postgres>, instance_id: i32, pieces: &Pieces) {
        sql.push("(");
        for (position, piece) in pieces.pieces.iter().enumerate() {
            if position > 0 {
                sql.push(" UNION ALL ");
            }
            let (moment, condition) = match (piece.detail, &self.fine) {
                (Detail::Fine, Fine::Rows { moment, condition, .. }) => (*moment, *condition),
                _ => ("to_at", ""),
            };
            sql.push(format_args!("SELECT {moment} AS to_at, "));
            match (piece.detail, &self.fine) {
                (Detail::Fine, Fine::Rows { table, columns, .. }) => sql.push(format_args!("{columns} FROM {table}")),
                (rolled, Fine::Rows { .. }) => {
                    sql.push(format_args!("{} FROM {}_{}", self.columns, self.stem, rolled.name()))
                }
                (Detail::Fine, Fine::Lists { table }) => self.push_lists(sql, table),
                (rolled, Fine::Lists { .. }) => self.push_lists(sql, &format!("{}_{}", self.stem, rolled.name())),
            };
            sql.push(" WHERE instance_id = ").push_bind(instance_id);
            sql.push(format_args!(" AND {moment} > ")).push_bind(time(piece.window.from));
            sql.push(format_args!(" AND {moment} <= ")).push_bind(time(piece.window.to));
            sql.push(condition);
        }
        sql.push(")");
    }

    fn push_lists<'a>(&self, sql: &'a mut QueryBuilder<Postgres>, table: &str) -> &'a mut QueryBuilder<Postgres> {
        let columns = &self.columns;
        match &self.which {
            Entries::InLists(expressions) => sql.push(format_args!("{expressions} FROM {table}")),
            Entries::All => sql.push(format_args!("{} FROM {table}", unpacked(columns))),
            // Picked out of the lists, which is faster by far than to take them apart.
            Entries::Only(column, values) => {
                let picked: Vec<String> = columns.split(", ").map(|name| format!("{name}[place] AS {name}")).collect();
                sql.push(format_args!("{} FROM {table}, unnest(", picked.join(", "))).push_bind(values.clone());
                sql.push(format_args!("::bigint[]) AS wanted, unnest(array_positions({column}, wanted)) AS place"))
            }
            // Summed up list by list, so that no more than one list is sorted at a time.
            Entries::AndOthers(values) => {
                let (told, figures) = columns.split_once(", ").unwrap_or((columns, ""));
                let sums: Vec<String> =
                    figures.split(", ").map(|name| format!("sum({name})::bigint AS {name}")).collect();
                sql.push(format_args!(
                    "entry.* FROM {table}, LATERAL (SELECT told AS {told}, {} FROM ",
                    sums.join(", ")
                ));
                sql.push(format_args!("unnest({columns}) AS entry({columns}) LEFT JOIN unnest("));
                sql.push_bind(values.clone());
                sql.push(format_args!("::bigint[]) AS told ON told = entry.{told} GROUP BY told) AS entry"))
            }
        }
    }
}

/// Columns that hold lists, as rows.
pub(crate) fn unpacked(columns: &str) -> String {
    let columns: Vec<String> = columns.split(", ").map(|column| format!("unnest({column}) AS {column}")).collect();
    columns.join(", ")
}

/// Start of the cell of `cell_seconds` that a row belongs to: it holds what ended later than its start
/// and not later than its end.
pub(crate) fn push_cell(sql: &mut QueryBuilder<Postgres>, cell_seconds: i64) {
    sql.push("date_bin(make_interval(secs => ").push_bind(cell_seconds as f64);
    sql.push("), to_at - interval '1 microsecond', 'epoch')");
}

impl Store {
    /// Since when anything is kept as it was read, as things stand at `now`.
    pub fn fine_since(&self, now: Timestamp) -> Timestamp {
        let since = |group: &RetentionGroup| self.retention.since(*group, Detail::Fine, now);
        RetentionGroup::VARIANTS.iter().map(since).min().unwrap_or(now)
    }

    /// Since when a group of figures is kept at a level of detail, as things stand at `now`.
    pub fn kept_since(&self, group: RetentionGroup, detail: Detail, now: Timestamp) -> Timestamp {
        self.retention.since(group, detail, now)
    }

    /// The pieces that answer a window from levels up to `coarsest`, as things stand at `now`: those that all
    /// of the groups are kept in.
    pub async fn pieces(
        &self,
        instance_id: i32,
        groups: &[RetentionGroup],
        window: Window,
        coarsest: Detail,
        now: Timestamp,
    ) -> Result<Pieces> {
        let due: Vec<(String, DateTime<Utc>)> =
            sqlx::query_as("SELECT detail, min(to_at) FROM roll_up_due WHERE instance_id = $1 GROUP BY detail")
                .bind(instance_id)
                .fetch_all(&self.pool)
                .await?;
        // A bucket of which a part is not summed up is not complete either.
        let complete_to = |detail: Detail| {
            let due = due.iter().filter_map(|(due, end)| Some((Detail::named(due)?, at(*end))));
            let begins = due.filter(|(due, _)| *due <= detail).map(|(due, end)| due.bucket_before(end));
            begins.min().unwrap_or(Timestamp(i64::MAX))
        };
        let kept_from = |detail| {
            let since = groups.iter().map(|group| self.retention.since(*group, detail, now));
            since.max().unwrap_or(now)
        };
        let kept = Kept {
            fine_from: kept_from(Detail::Fine),
            ten_minutes_from: kept_from(Detail::TenMinutes),
            ten_minutes_to: complete_to(Detail::TenMinutes),
            hour_to: complete_to(Detail::Hour),
            day_to: complete_to(Detail::Day),
        };
        Ok(Pieces { window, pieces: pieces(window, coarsest, &kept) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn halves_hold_each_moment_once_at_its_level() {
        let piece = |detail, from, to| Piece { detail, window: Window { from: Timestamp(from), to: Timestamp(to) } };
        let whole = |pieces: Vec<Piece>| Pieces { window: pieces[0].window, pieces };
        let days = whole(vec![piece(Detail::Hour, 7, 10), piece(Detail::Day, 10, 40), piece(Detail::Fine, 40, 41)]);
        let halves: Vec<Vec<Piece>> = days.halves().into_iter().map(|half| half.pieces).collect();
        let second = vec![piece(Detail::Day, 24, 40), piece(Detail::Fine, 40, 41)];
        assert_eq!(halves, [vec![piece(Detail::Hour, 7, 10), piece(Detail::Day, 10, 24)], second]);
        let moment = whole(vec![piece(Detail::Fine, 1, 2)]);
        assert_eq!(moment.halves().into_iter().flat_map(|half| half.pieces).collect::<Vec<_>>(), moment.pieces);
        assert_eq!(whole(vec![piece(Detail::Fine, 1, 1)]).halves(), []);
    }
}
