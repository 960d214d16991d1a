use super::quote::quote;
use super::{access_script, host_processes_script, host_script, log_script};

/// What the account is to be able to read besides statistics.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AccountMayRead {
    /// Tables themselves: for plans and the planner's statistics.
    pub tables: bool,
    /// Figures of the host and the processor time of its processes, through two narrow functions.
    pub host: bool,
    /// The server's log, through another one.
    pub log: bool,
    /// Who may sign in from where and how passwords are kept, through two more.
    pub access: bool,
}

/// Statements that let an account read every table there is now, for the server's administrator. The role
/// `pg_read_all_data` would be shorter, and reads what passwords are kept as, too.
pub(super) fn tables_script(account: &str) -> String {
    format!(
        "DO $$ DECLARE name text; BEGIN
    FOR name IN SELECT nspname FROM pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema' LOOP
        EXECUTE format('GRANT USAGE ON SCHEMA %I TO %I', name, {0});
        EXECUTE format('GRANT SELECT ON ALL TABLES IN SCHEMA %I TO %I', name, {0});
    END LOOP;
END $$;",
        literal(account)
    )
}

/// Statements that make an account for Hurnix with no more rights than it needs, for the administrator of a
/// server of this major version, to be run in the database that Hurnix connects to. The password is left open.
pub fn account_script(version: u32, account: &str, database: &str, may_read: AccountMayRead) -> String {
    let (account_quoted, database_quoted) = (quote(account), quote(database));
    // Before version 14 the server would keep the password as MD5.
    let encryption = if version < 14 { "SET password_encryption = 'scram-sha-256';\n" } else { "" };
    let mut script = format!(
        "-- An account that reads statistics and changes nothing. Choose a password.
{encryption}CREATE ROLE {account_quoted} LOGIN PASSWORD '…' CONNECTION LIMIT 5;
ALTER ROLE {account_quoted} SET default_transaction_read_only = on;
GRANT pg_monitor TO {account_quoted};
GRANT CONNECT ON DATABASE {database_quoted} TO {account_quoted};

-- Counters by statement; the library must be in shared_preload_libraries.
CREATE EXTENSION IF NOT EXISTS pg_stat_statements;
"
    );
    if may_read.tables {
        script += &format!(
            "\n-- Plans and the planner's statistics: they need the right to read the tables themselves. Tables that are\n-- made later need it again.\n{}\n",
            tables_script(account)
        );
    }
    if may_read.host {
        script += &format!(
            "\n-- Figures of the host: four files of the kernel, and the processor time of each process.\n{}\n{}\n",
            host_script(account),
            host_processes_script(account)
        );
    }
    if may_read.log {
        script += &format!("\n-- The server's log: files of its folder, and nothing else.\n{}\n", log_script(account));
    }
    if may_read.access {
        script += &format!(
            "\n-- Who may sign in, and how passwords are kept; never a password.\n{}\n",
            access_script(account)
        );
    }
    script
}

fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}
