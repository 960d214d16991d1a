use hurnix_core::changes::action::SessionMeant;

use super::super::PROGRAM;
use super::super::quote::quote;
use super::Order;

pub(super) fn cancel_statement(session: &SessionMeant) -> Order {
    signal("pg_cancel_backend", session)
}

pub(super) fn end_session(session: &SessionMeant) -> Order {
    signal("pg_terminate_backend", session)
}

/// Nothing happens where the process has ended meanwhile, even if another one has its number now.
fn signal(function: &str, session: &SessionMeant) -> Order {
    let (process, started_us) = (session.process, session.started_at.0);
    Order {
        statement: format!(
            "SELECT {function}(pid) AS sent FROM pg_stat_activity
WHERE pid = {process} AND round(extract(epoch FROM backend_start) * 1000000) = {started_us} AND application_name <> '{PROGRAM}'"
        ),
        database: None,
        rights: None,
        progress: None,
        result: None,
        remedy: |account| format!("GRANT pg_signal_backend TO {};", quote(account)),
    }
}
