//! What sort of statement a text is: what an application asks, and what keeps sessions, monitoring and upkeep going.
//!
//! It reads words, not grammar, so that it works on any text of a family, also on one that was cut short. What it does
//! not know is [`StatementKind::Other`], and is shown with what applications ask.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::statement::{from_first_word, has_word};

/// What sort of statement it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum StatementKind {
    /// Reads rows.
    Query,
    /// Inserts, updates, deletes or loads rows.
    Change,
    /// Calls a procedure, or runs a block of code.
    Procedure,
    /// Creates, alters or drops something, or grants rights.
    Definition,
    /// Vacuum, analyze, reindex and the like.
    Upkeep,
    /// Begins and ends transactions, sets parameters, prepares statements.
    Session,
    /// Reads the server's own catalogs and statistics views only.
    Monitoring,
    /// None of these that is known.
    Other,
}

/// Words after which a list of relations is over.
const ENDS_RELATIONS: [&str; 13] = [
    "where",
    "group",
    "order",
    "having",
    "limit",
    "offset",
    "union",
    "intersect",
    "except",
    "window",
    "fetch",
    "for",
    "on",
];
/// Words that stand between `FROM` or `JOIN` and the relation.
const BEFORE_RELATION: [&str; 2] = ["only", "lateral"];
/// The server's functions that start without `pg_` and tell about it.
const TELLS_OF_SERVER: [&str; 5] =
    ["version", "current_setting", "txid_current", "inet_server_addr", "current_database"];

impl StatementKind {
    /// What sort a statement is. Linear in its length.
    pub fn of(text: &str) -> StatementKind {
        let rest = from_first_word(text);
        let verb: String =
            rest.chars().take_while(|sign| sign.is_ascii_alphabetic()).collect::<String>().to_ascii_lowercase();
        match verb.as_str() {
            "select" | "values" | "table" | "fetch" | "execute" if asks_server_only(rest) => StatementKind::Monitoring,
            "select" | "values" | "table" | "fetch" | "execute" => StatementKind::Query,
            "with" => with(rest),
            "insert" | "update" | "delete" | "merge" | "truncate" => StatementKind::Change,
            "copy" if has_word(rest, "stdin") || !has_word(rest, "to") => StatementKind::Change,
            "copy" => StatementKind::Query,
            "call" | "do" => StatementKind::Procedure,
            "create" | "alter" | "drop" | "comment" | "grant" | "revoke" | "security" | "import" | "reassign" => {
                StatementKind::Definition
            }
            "vacuum" | "analyze" | "analyse" | "cluster" | "reindex" | "checkpoint" | "refresh" => {
                StatementKind::Upkeep
            }
            "begin" | "start" | "commit" | "end" | "rollback" | "abort" | "savepoint" | "release" | "set" | "reset"
            | "show" | "discard" | "prepare" | "deallocate" | "declare" | "close" | "move" | "listen" | "unlisten"
            | "notify" | "lock" | "load" => StatementKind::Session,
            "explain" => StatementKind::Monitoring,
            _ => StatementKind::Other,
        }
    }

    /// Whether it is what an application asks, as opposed to what goes on around it.
    pub fn is_of_application(self) -> bool {
        !matches!(self, StatementKind::Session | StatementKind::Monitoring)
    }
}

/// A statement that begins with `WITH`: what it does with its rows.
fn with(text: &str) -> StatementKind {
    if ["insert", "update", "delete", "merge"].iter().any(|verb| changes_rows(text, verb)) {
        StatementKind::Change
    } else if asks_server_only(text) {
        StatementKind::Monitoring
    } else {
        StatementKind::Query
    }
}

/// Whether a verb that changes rows stands where a statement begins: behind a bracket, or behind the last common table.
/// `FOR UPDATE` and a column of that name do not.
fn changes_rows(text: &str, verb: &str) -> bool {
    let words = Words::of(text).collect::<Vec<_>>();
    words.windows(2).any(|pair| matches!(pair[0], "(" | ")") && pair[1].eq_ignore_ascii_case(verb))
}

/// Words, quoted names and signs of a text, without white space.
struct Words<'a> {
    rest: &'a str,
}

impl<'a> Words<'a> {
    fn of(text: &'a str) -> Words<'a> {
        Words { rest: text }
    }
}

impl<'a> Iterator for Words<'a> {
    type Item = &'a str;

    fn next(&mut self) -> Option<&'a str> {
        self.rest = self.rest.trim_start();
        let first = self.rest.chars().next()?;
        let is_part = |sign: char| sign.is_alphanumeric() || matches!(sign, '_' | '.' | '"');
        let end = if is_part(first) {
            self.rest.find(|sign| !is_part(sign)).unwrap_or(self.rest.len())
        } else {
            first.len_utf8()
        };
        let (word, rest) = self.rest.split_at(end);
        self.rest = rest;
        Some(word)
    }
}

/// Whether all relations that a query names are the server's own, or it names none and calls the server's own functions.
fn asks_server_only(text: &str) -> bool {
    let words: Vec<&str> = Words::of(text).collect();
    let mut relations = Relations::default();
    let mut calls = (0, 0);
    for (place, word) in words.iter().enumerate() {
        let is_called = words.get(place + 1) == Some(&"(") && word.starts_with(|sign: char| sign.is_alphabetic());
        if is_called && !is_word_before_bracket(word) {
            calls.0 += 1;
            calls.1 += usize::from(is_of_server(word));
        }
        relations.read(word, is_called);
    }
    match relations {
        Relations { named: 0, .. } => calls.0 > 0 && calls.0 == calls.1,
        Relations { named, of_server, .. } => named == of_server,
    }
}

/// Words of the language that a bracket may follow without a call.
fn is_word_before_bracket(word: &str) -> bool {
    [
        "from", "join", "in", "and", "or", "not", "as", "on", "where", "select", "exists", "any", "all", "union", "by",
        "over",
    ]
    .iter()
    .any(|known| word.eq_ignore_ascii_case(known))
}

fn is_of_server(name: &str) -> bool {
    let name = name.to_ascii_lowercase().replace('"', "");
    let last = name.rsplit('.').next().unwrap_or_default();
    name.starts_with("pg_catalog.")
        || name.starts_with("information_schema.")
        || last.starts_with("pg_")
        || TELLS_OF_SERVER.contains(&last)
}

/// What a query reads from, as its words come.
#[derive(Default)]
struct Relations {
    named: usize,
    of_server: usize,
    /// By brackets: whether a list of relations is open, and whether a relation comes next.
    open: Vec<(bool, bool)>,
}

impl Relations {
    fn read(&mut self, word: &str, is_called: bool) {
        if self.open.is_empty() {
            self.open.push((false, false));
        }
        let last = self.open.len() - 1;
        let (in_list, comes_next) = &mut self.open[last];
        match word.to_ascii_lowercase().as_str() {
            "(" => {
                *comes_next = false;
                self.open.push((false, false));
            }
            ")" if last > 0 => {
                self.open.pop();
            }
            "from" | "join" => (*in_list, *comes_next) = (true, true),
            "," if *in_list => *comes_next = true,
            word if ENDS_RELATIONS.contains(&word) => (*in_list, *comes_next) = (word == "on", false),
            word if *comes_next && !BEFORE_RELATION.contains(&word) => {
                *comes_next = false;
                // A function that gives rows counts like a relation, but for those of the language itself.
                if !is_called || !matches!(word, "unnest" | "generate_series") {
                    self.named += 1;
                    self.of_server += usize::from(is_of_server(word));
                }
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn is(kind: StatementKind, texts: &[&str]) {
        for text in texts {
            assert_eq!(StatementKind::of(text), kind, "{text}");
        }
    }

    #[test]
    fn what_applications_ask() {
        is(
            StatementKind::Query,
            &[
                "select crossing_id from crossing where departs_at > ?",
                "/* svc=web */ (select ?) union (select metre from deck)",
                "with late as (select * from passage) select * from late",
                "select ?",
                "select count(*) from vehicle_slot for update",
                "with due as (select id from crossing for update) select * from due",
                "copy deck to stdout",
                "fetch ? from c",
                "",
            ]
            .map(|text| if text.is_empty() { "table deck" } else { text }),
        );
        is(
            StatementKind::Change,
            &[
                "insert into passage values (?)",
                "with moved as (delete from gate_scan returning *) insert into gate_scan_old select * from moved",
                "with due as (select id from crossing) update crossing set state = ?",
                "copy deck from stdin",
                "truncate pier_board",
            ],
        );
        is(StatementKind::Procedure, &["call settle_dues(?)", "do $$ begin end $$"]);
        is(StatementKind::Definition, &["create index on deck (metre)", "grant select on deck to crew"]);
        is(StatementKind::Upkeep, &["vacuum analyze deck", "reindex table deck"]);
        is(StatementKind::Other, &["", "sélect", "?"]);
    }

    #[test]
    fn what_goes_on_around_it() {
        is(StatementKind::Session, &["begin", "COMMIT", "set search_path to ?", "deallocate p1", "show work_mem"]);
        is(
            StatementKind::Monitoring,
            &[
                "select * from pg_stat_activity where pid <> pg_backend_pid()",
                "select pg_is_in_recovery()",
                "select now() - pg_last_xact_replay_timestamp() from pg_stat_replication",
                "select c.relname from pg_catalog.pg_class c join pg_namespace n on n.oid = c.relnamespace, pg_index i where true",
                "select * from information_schema.tables",
                "with q as (select * from pg_locks) select * from pg_stat_database",
                "select d.datname from (select datname from pg_database) d",
            ]
            .map(|text| text),
        );
    }

    #[test]
    fn a_query_that_reads_a_table_besides_is_no_monitoring() {
        is(
            StatementKind::Query,
            &[
                "select * from pg_class c, deck d where d.name = c.relname",
                "select * from pg_class c join deck d on true",
                "select * from deck where id in (select objid from pg_locks)",
                "select name from harbour where exists (select from pg_class)",
                "select pg_size_pretty(?), total from berth_call",
                "select pg_advisory_lock(?), next_berth(?)",
            ],
        );
    }

    #[test]
    fn only_sessions_and_monitoring_stand_apart() {
        assert!(StatementKind::Query.is_of_application() && StatementKind::Other.is_of_application());
        assert!(!StatementKind::Session.is_of_application() && !StatementKind::Monitoring.is_of_application());
    }
}
