use hurnix_core::changes::action::TableMeant;
use sqlx::Row;

use super::super::quote::quote;
use super::{Order, Question};

/// Whoever may not analyze a table is only warned, and the table passed over: so it is asked first. Owners of the
/// table or of the database may, and from version 17 on whoever may maintain the table.
const RIGHTS: &str = "SELECT pg_has_role(c.relowner, 'USAGE')
       OR (SELECT pg_has_role(d.datdba, 'USAGE') FROM pg_database d WHERE d.datname = current_database())
       OR CASE WHEN current_setting('server_version_num')::int >= 170000 THEN has_table_privilege(c.oid, 'MAINTAIN')
               ELSE false END AS may,
       pg_get_userbyid(c.relowner) AS owner, (SELECT rolsuper FROM pg_roles WHERE oid = c.relowner) AS is_superusers, n.nspname::text AS schema, c.relname::text AS name,
       current_setting('server_version_num')::int >= 170000 AS has_maintain
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'p', 'm', 'f')";

/// Pages are sampled first; what follows takes little time.
const PROGRESS: &str =
    "SELECT CASE WHEN phase IN ('initializing', 'acquiring sample rows', 'acquiring inherited sample rows')
            THEN sample_blks_scanned::float8 / nullif(sample_blks_total, 0) ELSE 1 END AS share, phase
FROM pg_stat_progress_analyze WHERE pid = $1";

const RESULT: &str = "SELECT c.reltuples::float8 AS rows, c.relpages AS pages
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2";

pub(super) fn order(table: &TableMeant) -> Order {
    let given = vec![table.schema.clone(), table.table.clone()];
    Order {
        statement: format!("ANALYZE {}.{}", quote(&table.schema), quote(&table.table)),
        database: Some(table.database.clone()),
        rights: Some(Question {
            sql: RIGHTS.into(),
            given: given.clone(),
            told: |row, account| {
                if row.get("may") {
                    return None;
                }
                let (owner, account) = (row.get::<String, _>("owner"), quote(account));
                let table = format!("{}.{}", quote(row.get("schema")), quote(row.get("name")));
                let remedy = if row.get("has_maintain") {
                    format!("GRANT MAINTAIN ON TABLE {table} TO {account};")
                } else if row.get("is_superusers") {
                    // Nobody makes an account that watches a superuser for that.
                    format!(
                        "run it as {owner}, or give the table an owner of its own and make {account} a member of that role."
                    )
                } else {
                    format!("GRANT {} TO {account};", quote(&owner))
                };
                Some((format!("only {owner} and the owner of the database may analyze {table}"), remedy))
            },
        }),
        progress: Some(PROGRESS),
        result: Some(Question {
            sql: RESULT.into(),
            given,
            told: |row, _| {
                let (rows, pages) = (row.get::<f64, _>("rows"), row.get::<i32, _>("pages"));
                Some((format!("The planner takes it to have {rows:.0} rows in {pages} pages now."), String::new()))
            },
        }),
        remedy: |account| format!("let its owner run it, or make {} a member of that role.", quote(account)),
    }
}
