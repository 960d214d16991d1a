//! What the account may read can change while it reads: rights are granted and revoked, extensions and the narrow
//! functions come and go. A mark of all that is compared before each reading, in one short statement; only when it
//! differs is the server looked over again.

use sqlx::{PgConnection, Row};

use super::quote::quote;
use super::{PostgresSource, Server};
use crate::obstacle::problem;
use crate::{ConnectProblem, Obstacle, ReadProblem};

/// Marks of what decides what may be read: predefined roles, the extension of statement counters, narrow functions.
const MARK: &str =
    "SELECT /* hurnix */ pg_has_role(current_user, 'pg_read_all_stats', 'USAGE') AS reads_all, concat_ws(' ',
        (SELECT string_agg(rolname, ',' ORDER BY rolname) FROM pg_roles
         WHERE rolname LIKE 'pg\\_%' AND pg_has_role(current_user, oid, 'USAGE')),
        (SELECT concat_ws('/', oid, extversion, extnamespace) FROM pg_extension WHERE extname = 'pg_stat_statements'),
        (SELECT string_agg(concat_ws('/', oid, has_function_privilege(oid, 'EXECUTE')), ',' ORDER BY oid) FROM pg_proc
         WHERE pronamespace = to_regnamespace('public') AND proname LIKE 'hurnix\\_%')) AS mark";

/// What the account may read by itself is not worth watching for.
pub(super) fn lacks_privilege(account: &str) -> ConnectProblem {
    problem(
        Obstacle::PrivilegeMissing,
        format!("The account {account} may not read the statistics of others."),
        format!("GRANT pg_monitor TO {};", quote(account)),
    )
}

/// The mark of what may be read now.
pub(super) async fn mark(connection: &mut PgConnection) -> Result<(bool, String), sqlx::Error> {
    let row = sqlx::query(MARK).fetch_one(connection).await?;
    Ok((row.get("reads_all"), row.get("mark")))
}

impl PostgresSource {
    /// Looks whether other figures may be read than before, or looks the server over anyhow; says whether its
    /// limits are others now.
    pub(super) async fn look_again(&mut self, anyhow: bool) -> Result<bool, ReadProblem> {
        let (reads_all, mark) = mark(&mut self.connection).await?;
        if !reads_all {
            return Err(self.right_is_gone());
        }
        if mark == self.mark && !anyhow {
            return Ok(false);
        }
        let server = Server::inspect(&mut self.connection).await.map_err(ReadProblem::Obstructed)?;
        let changed = server.limits != self.server.limits;
        // Whoever has shared the account once may do so again.
        let is_alone = server.has_account_alone && self.server.has_account_alone;
        if !is_alone {
            self.statements.forget_own();
        }
        (self.server, self.mark) = (Server { has_account_alone: is_alone, ..server }, mark);
        Ok(changed)
    }

    /// The account may not read the statistics of others any more.
    pub(super) fn right_is_gone(&self) -> ReadProblem {
        ReadProblem::Obstructed(lacks_privilege(&self.server.account))
    }
}
