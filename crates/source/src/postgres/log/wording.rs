//! Where the server's log may hold literals, by its own words.

use hurnix_core::readings::family::fold;
use hurnix_core::readings::server_log::{InCircle, LogKind, LogLine, LogWording};

/// How PostgreSQL words its log.
pub struct PostgresWording;

impl LogWording for PostgresWording {
    fn quotes_names_only(&self, line: &LogLine) -> bool {
        names_only(&line.state)
    }

    fn masked_detail(&self, detail: &str, kind: LogKind) -> String {
        match kind {
            LogKind::Deadlock => mask_statements(detail),
            // It names processes, and nothing else.
            LogKind::LockWait => detail.to_owned(),
            _ => String::new(),
        }
    }

    fn circle(&self, detail: &str) -> Vec<InCircle> {
        let (waits, statements) = waits_and_statements(detail);
        waits.into_iter().filter_map(|wait| in_circle(wait, &statements)).collect()
    }
}

/// Whether messages of a state quote names of objects and never a literal: by its class. Syntax errors
/// quote what stands in the statement.
fn names_only(state: &str) -> bool {
    const CLASSES: [&str; 16] =
        ["00", "01", "08", "23", "25", "28", "2B", "3D", "3F", "40", "42", "53", "54", "55", "57", "58"];
    state != "42601" && CLASSES.iter().any(|class| state.starts_with(class))
}

/// The detail of a deadlock: who waits for whom, and their statements, folded.
fn mask_statements(detail: &str) -> String {
    let (waits, statements) = waits_and_statements(detail);
    let statements = statements.into_iter().map(|(head, statement)| format!("{head}{}", fold(&statement).text));
    waits.into_iter().map(str::to_owned).chain(statements).collect::<Vec<_>>().join("\n")
}

/// The lines that tell who waits for whom, and each statement with what stands before it, `Process 7: `.
fn waits_and_statements(detail: &str) -> (Vec<&str>, Vec<(String, String)>) {
    let lines: Vec<&str> = detail.lines().collect();
    let is_wait = |line: &&str| line.starts_with("Process ") && line.contains(" waits for ");
    let (waits, statements) = lines.split_at(lines.iter().take_while(|line| is_wait(line)).count());
    let heads: Vec<String> =
        waits.iter().filter_map(|wait| wait.split(" waits").next()).map(|who| format!("{who}: ")).collect();
    let mut found = Vec::new();
    let mut rest = statements;
    while let Some((first, more)) = rest.split_first() {
        let length = more.iter().position(|line| heads.iter().any(|head| line.starts_with(head))).unwrap_or(more.len());
        if let Some(head) = heads.iter().find(|head| first.starts_with(*head)) {
            found.push((head.clone(), [&[&first[head.len()..]], &more[..length]].concat().join("\n")));
        }
        rest = &more[length..];
    }
    (waits.to_vec(), found)
}

/// Who waited for whom: `Process 7 waits for ShareLock on transaction 9; blocked by process 8.`
fn in_circle(wait: &str, statements: &[(String, String)]) -> Option<InCircle> {
    let (who, rest) = wait.split_once(" waits for ")?;
    let (wanted, held_by) = rest.trim_end_matches('.').split_once("; blocked by process ")?;
    let head = format!("{who}: ");
    let statement = statements.iter().find(|(of, _)| *of == head).map(|(_, statement)| statement.clone());
    Some(InCircle {
        process: who.strip_prefix("Process ")?.parse().ok()?,
        wanted: wanted.to_owned(),
        held_by: held_by.parse().ok()?,
        statement: statement.unwrap_or_default(),
    })
}

#[cfg(test)]
mod tests {
    use hurnix_core::readings::server_log::mask;
    use proptest::prelude::*;

    use super::super::told;
    use super::*;

    fn line(state: &str, message: &str) -> LogLine {
        LogLine { severity: "ERROR".into(), state: state.into(), message: message.into(), ..LogLine::default() }
    }

    fn masked(line: LogLine) -> LogLine {
        let kind = told(line.clone()).expect("an error is kept").kind;
        mask(line, kind, &PostgresWording)
    }

    #[test]
    fn names_stay_and_values_go() {
        let message = |state, message| masked(line(state, message)).message;
        assert_eq!(message("42P01", "relation \"gate\" does not exist"), "relation \"gate\" does not exist");
        assert_eq!(message("42601", "syntax error at or near \"7\""), "syntax error at or near ?");
        assert_eq!(
            message("22P02", "invalid input syntax for type integer: \"Ada's 7\""),
            "invalid input syntax for type integer: ?"
        );
    }

    #[test]
    fn the_detail_of_a_deadlock_keeps_who_and_loses_what() {
        let waits = "Process 7 waits for ShareLock on transaction 9; blocked by process 8.\nProcess 8 waits for ShareLock on transaction 6; blocked by process 7.\n";
        let mut deadlock = line("40P01", "deadlock detected");
        deadlock.detail = format!(
            "{waits}Process 7: update leg set note = 'secret\nProcess 9: more' where leg_id = 1\nProcess 8: update leg\n set note = 'x'"
        );
        let left =
            format!("{waits}Process 7: update leg set note = ? where leg_id = ?\nProcess 8: update leg set note = ?");
        assert_eq!(masked(deadlock).detail, left);
        let told = |process, held_by, transaction: i32, statement: &str| InCircle {
            process,
            wanted: format!("ShareLock on transaction {transaction}"),
            held_by,
            statement: statement.into(),
        };
        let circle =
            [told(7, 8, 9, "update leg set note = ? where leg_id = ?"), told(8, 7, 6, "update leg set note = ?")];
        assert_eq!(PostgresWording.circle(&left), circle);
        assert_eq!(PostgresWording.circle("El proceso 7 espera"), []);
    }

    proptest! {
        #[test]
        fn no_literal_is_kept_and_masking_twice_is_masking_once(
            secret in "[a-z]{12}", number in 1_000_000i64..9_999_999, state in 0usize..5,
        ) {
            let state = ["22P02", "23505", "42601", "P0001", "40P01"][state];
            let found = masked(LogLine {
                detail: format!("Process 1 waits for Process 1.\nProcess 1: select '{secret}', {number}\nKey (id)=({number}, {secret}) already exists."),
                statement: format!("select '{secret}', {number}"),
                // Constraints are names: their messages hold no literal.
                ..line(state, &if state == "23505" || state == "40P01" { "violated".to_owned() } else { format!("near \"{secret}\" {number}") })
            });
            let all = format!("{} {} {}", found.message, found.detail, found.statement);
            prop_assert!(!all.contains(&number.to_string()) && !all.contains(&format!("'{secret}'")), "{}", all);
            prop_assert_eq!(&masked(found.clone()), &found);
        }
    }
}
