use std::collections::HashMap;

use hurnix_core::Timestamp;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::inventory::{
    AccessRule, Account, Contents, Database, Files, Inventory, OwnSetting, PasswordKept, Tablespace,
};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use super::quote::quote;
use super::{PostgresSource, Server, at, marked};
use crate::{Limit, ReadProblem};

/// The functions through which it is read who may sign in from where, and how passwords are kept.
const RULES: &str = "hurnix_access_rules";
const PASSWORDS: &str = "hurnix_passwords_kept";

/// Statements that install the functions through which it is read who may sign in from where and how
/// passwords are kept, never a password or what it is kept as, for the server's administrator.
pub fn access_script(account: &str) -> String {
    let account = quote(account);
    format!(
        "CREATE FUNCTION public.{RULES}() RETURNS TABLE (line int, connection text, databases text[], accounts text[], address text, method text)
LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog
AS $$ SELECT /* hurnix */ line_number, type, database, user_name, address, auth_method FROM pg_hba_file_rules WHERE error IS NULL $$;
CREATE FUNCTION public.{PASSWORDS}() RETURNS TABLE (account text, kept text)
LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog
AS $$ SELECT /* hurnix */ rolname::text, CASE WHEN rolpassword IS NULL THEN 'absent' WHEN rolpassword LIKE 'md5%' THEN 'md5' ELSE 'scram' END FROM pg_authid $$;
REVOKE ALL ON FUNCTION public.{RULES}(), public.{PASSWORDS}() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION public.{RULES}(), public.{PASSWORDS}() TO {account};"
    )
}

impl Server {
    /// Whether the functions are there and may be called.
    pub(super) async fn find_access(
        &mut self,
        connection: &mut PgConnection,
        account: &str,
    ) -> Result<(), sqlx::Error> {
        let callable: Option<bool> = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT /* hurnix */ has_function_privilege(to_regprocedure('public.{RULES}()'), 'EXECUTE')
                     AND has_function_privilege(to_regprocedure('public.{PASSWORDS}()'), 'EXECUTE')"
        )))
        .fetch_one(connection)
        .await?;
        self.tells_access = callable.unwrap_or(false);
        if !self.tells_access {
            self.limits.push(Limit {
                figures: "access rules".into(),
                concerns: vec![Figures::Inventory],
                in_whole: false,
                by_version: false,
                reason: "Accounts without password and rules that let anybody in are not seen: the server lets only superusers read them.".into(),
                remedy: access_script(account),
            });
        }
        Ok(())
    }
}

impl PostgresSource {
    /// Databases, tablespaces, accounts, who may sign in from where, and files.
    pub(super) async fn read_inventory(&mut self) -> Result<Inventory, ReadProblem> {
        let read_at = self.read_now().await?;
        Ok(Inventory {
            at: read_at,
            system_identifier: self.system_identifier().await?,
            databases: self.database_list().await?,
            tablespaces: self.tablespaces().await?,
            accounts: self.accounts().await?,
            access_rules: self.access_rules().await?,
            own_settings: self.own_settings().await?,
            contents: self.contents().await?,
            log_files: self.files("pg_ls_waldir()").await?,
            temp_files: self.files("pg_ls_tmpdir()").await?,
        })
    }

    pub(super) async fn rows(&mut self, sql: impl std::fmt::Display) -> Result<Vec<PgRow>, ReadProblem> {
        Ok(sqlx::query(AssertSqlSafe(marked(&sql.to_string()))).fetch_all(&mut self.connection).await?)
    }

    pub(super) async fn system_identifier(&mut self) -> Result<Option<String>, ReadProblem> {
        match self.rows("SELECT system_identifier::text FROM pg_control_system()").await {
            Ok(rows) => Ok(rows.first().map(|row| row.get(0))),
            Err(ReadProblem::Refused(_)) => Ok(None),
            Err(other) => Err(other),
        }
    }

    async fn database_list(&mut self) -> Result<Vec<Database>, ReadProblem> {
        let sql = "SELECT d.oid::bigint AS oid, d.datname::text AS name, pg_get_userbyid(d.datdba)::text AS owner,
                pg_encoding_to_char(d.encoding)::text AS encoding, d.datcollate::text AS collation, d.datctype::text AS character_type,
                t.spcname::text AS tablespace, nullif(d.datconnlimit, -1) AS connection_limit, d.datallowconn AS allows_connections,
                d.datistemplate AS is_template, (extract(epoch FROM s.stats_reset) * 1000000)::bigint AS reset_us
             FROM pg_database d JOIN pg_tablespace t ON t.oid = d.dattablespace LEFT JOIN pg_stat_database s ON s.datid = d.oid ORDER BY 2";
        let database = |row: &PgRow| Database {
            oid: row.get::<i64, _>("oid") as u32,
            name: row.get("name"),
            owner: row.get("owner"),
            encoding: row.get("encoding"),
            collation: row.get::<Option<String>, _>("collation").unwrap_or_default(),
            character_type: row.get::<Option<String>, _>("character_type").unwrap_or_default(),
            tablespace: row.get("tablespace"),
            connection_limit: row.get("connection_limit"),
            allows_connections: row.get("allows_connections"),
            is_template: row.get("is_template"),
            counters_reset_at: row.get::<Option<i64>, _>("reset_us").map(at),
        };
        Ok(self.rows(sql).await?.iter().map(database).collect())
    }

    async fn tablespaces(&mut self) -> Result<Vec<Tablespace>, ReadProblem> {
        let sql = "SELECT spcname::text AS name, pg_get_userbyid(spcowner)::text AS owner, pg_tablespace_location(oid) AS location
             FROM pg_tablespace ORDER BY 1";
        let tablespace =
            |row: &PgRow| Tablespace { name: row.get("name"), owner: row.get("owner"), location: row.get("location") };
        Ok(self.rows(sql).await?.iter().map(tablespace).collect())
    }

    async fn accounts(&mut self) -> Result<Vec<Account>, ReadProblem> {
        let mut kept: HashMap<String, PasswordKept> = HashMap::new();
        if self.server.tells_access {
            for row in self.rows(format!("SELECT account, kept FROM public.{PASSWORDS}()")).await? {
                let how = match row.get::<&str, _>("kept") {
                    "absent" => PasswordKept::Absent,
                    "md5" => PasswordKept::Md5,
                    _ => PasswordKept::Scram,
                };
                kept.insert(row.get("account"), how);
            }
        }
        // Those below 16384 are the server's own, but for the one that it was set up with.
        let sql = "SELECT rolname::text AS name, rolcanlogin, rolsuper, rolcreaterole, rolcreatedb, rolreplication,
                oid < 16384 AND rolname LIKE 'pg\\_%' AS is_internal, nullif(rolconnlimit, -1) AS connection_limit,
                CASE WHEN isfinite(rolvaliduntil) THEN (extract(epoch FROM rolvaliduntil) * 1000000)::bigint END AS until_us
             FROM pg_roles ORDER BY 1";
        let account = |row: &PgRow| {
            let name: String = row.get("name");
            Account {
                password: kept.get(&name).copied(),
                name,
                may_sign_in: row.get("rolcanlogin"),
                is_superuser: row.get("rolsuper"),
                may_make_accounts: row.get("rolcreaterole"),
                may_make_databases: row.get("rolcreatedb"),
                may_replicate: row.get("rolreplication"),
                is_internal: row.get("is_internal"),
                connection_limit: row.get("connection_limit"),
                password_until: row.get::<Option<i64>, _>("until_us").map(Timestamp),
            }
        };
        Ok(self.rows(sql).await?.iter().map(account).collect())
    }

    async fn access_rules(&mut self) -> Result<Option<Vec<AccessRule>>, ReadProblem> {
        if !self.server.tells_access {
            return Ok(None);
        }
        let rule = |row: &PgRow| AccessRule {
            line: row.get("line"),
            connection: row.get("connection"),
            databases: row.get::<Option<_>, _>("databases").unwrap_or_default(),
            accounts: row.get::<Option<_>, _>("accounts").unwrap_or_default(),
            address: row.get("address"),
            method: row.get("method"),
        };
        let rows = self.rows(format!("SELECT * FROM public.{RULES}()")).await?;
        Ok(Some(rows.iter().map(rule).collect()))
    }

    async fn own_settings(&mut self) -> Result<Vec<OwnSetting>, ReadProblem> {
        let sql = "SELECT d.datname::text AS database, r.rolname::text AS account, split_part(one, '=', 1) AS name,
                substr(one, strpos(one, '=') + 1) AS value
             FROM pg_db_role_setting s LEFT JOIN pg_database d ON d.oid = s.setdatabase LEFT JOIN pg_roles r ON r.oid = s.setrole,
                unnest(s.setconfig) AS one ORDER BY 1, 2, 3";
        let setting = |row: &PgRow| OwnSetting {
            database: row.get("database"),
            account: row.get("account"),
            name: row.get("name"),
            value: row.get("value"),
        };
        Ok(self.rows(sql).await?.iter().map(setting).collect())
    }

    async fn contents(&mut self) -> Result<Contents, ReadProblem> {
        let sql = "WITH own AS (SELECT oid FROM pg_namespace WHERE nspname NOT LIKE 'pg\\_%' AND nspname <> 'information_schema')
             SELECT (SELECT count(*) FROM own) AS schemas,
                count(*) FILTER (WHERE relkind IN ('v', 'm') AND is_own) AS views,
                count(*) FILTER (WHERE relkind = 'S' AND is_own) AS sequences,
                count(*) FILTER (WHERE relkind IN ('r', 'i', 't', 'm', 'S')) AS files,
                (SELECT count(*) FROM pg_proc p JOIN own ON own.oid = p.pronamespace
                 WHERE NOT EXISTS (SELECT FROM pg_depend e WHERE e.classid = 'pg_proc'::regclass AND e.objid = p.oid AND e.deptype = 'e')) AS functions,
                (SELECT count(*) FROM pg_trigger WHERE NOT tgisinternal) AS triggers
             FROM (SELECT relkind, EXISTS (SELECT FROM own WHERE own.oid = relnamespace)
                    AND NOT EXISTS (SELECT FROM pg_depend e WHERE e.classid = 'pg_class'::regclass AND e.objid = k.oid AND e.deptype = 'e') AS is_own
                FROM pg_class k) c";
        let rows = self.rows(sql).await?;
        let of = |column: &str| rows.first().map_or(0, |row| row.get(column));
        Ok(Contents {
            schemas: of("schemas"),
            views: of("views"),
            functions: of("functions"),
            sequences: of("sequences"),
            triggers: of("triggers"),
            files: of("files"),
        })
    }

    /// Files that a function of the server lists; nothing where it does not let the account.
    async fn files(&mut self, list: &str) -> Result<Option<Files>, ReadProblem> {
        let sql = format!("SELECT count(*) AS count, coalesce(sum(size), 0)::bigint AS bytes FROM {list}");
        match self.rows(sql).await {
            Ok(rows) => Ok(rows.first().map(|row| Files { count: row.get("count"), bytes: row.get("bytes") })),
            Err(ReadProblem::Refused(_)) => Ok(None),
            Err(problem) => Err(problem),
        }
    }
}
