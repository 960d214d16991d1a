//! Views for whoever asks with SQL what no page asks: the schema `figures`, described in `docs/formats/views.md`.
//!
//! They are stable: a view keeps its name and its columns; later versions add columns at the end and views besides. They
//! are made from the registries of kinds of counters, metrics and wait kinds, so that a kind that is added has its views.

use hurnix_core::Named;
use hurnix_core::WaitKind;
use hurnix_core::readings::counters_read::{Kept, KeySort, ObjectKey};
use hurnix_core::readings::metric::Metric;
use sqlx::{AssertSqlSafe, Connection, Row};

use crate::{Result, Store, StoreProblem};

/// Locks of this class are held while views are made.
const MAKING: i64 = 18_001;

/// What marks the roles that were made for reading.
const OURS: &str = "Reads the views of Hurnix";

/// A view: its name in the schema, what it holds, and the query that it is.
struct View {
    name: String,
    holds: String,
    sql: String,
}

impl View {
    fn new(name: &str, holds: &str, sql: impl Into<String>) -> View {
        View { name: name.to_owned(), holds: holds.to_owned(), sql: sql.into() }
    }
}

/// Levels of detail: what the names of views and of tables end with, and what that is.
const LEVELS: [(&str, &str, &str); 4] = [
    ("as_read", "period", "as it was read, of the last days"),
    ("ten_minutes", "ten_minutes", "summed up to ten minutes, of the last weeks"),
    ("hour", "hour", "summed up to hours, of more than a year"),
    ("day", "day", "summed up to days of UTC, of more than a year"),
];

fn views() -> Vec<View> {
    let mut views = vec![
        View::new(
            "instance",
            "Instances that are watched",
            "SELECT instance_id, label, group_name, engine, host, port, database_name, server_version, collection, created_at
             FROM public.instance",
        ),
        View::new(
            "statement",
            "Statement families",
            "SELECT instance_id, family_id, text, tag, kind, first_seen_at, last_seen_at FROM public.family",
        ),
        View::new(
            "table_known",
            "Tables as the catalog was last read",
            "SELECT instance_id, database_name, (known->>'oid')::bigint AS table_oid, known->>'schema' AS schema_name,
                    known->>'name' AS table_name, (known->>'rows')::float8 AS live_rows, (known->>'size_bytes')::bigint AS size_bytes
             FROM public.catalog, jsonb_array_elements(payload->'tables') AS known",
        ),
        View::new(
            "index_known",
            "Indexes as the catalog was last read",
            "SELECT instance_id, database_name, (of_table->>'oid')::bigint AS table_oid, (known->>'oid')::bigint AS index_oid,
                    known->>'name' AS index_name, known->>'method' AS method, (known->>'unique')::boolean AS is_unique,
                    (known->>'valid')::boolean AS is_valid, (known->>'size_bytes')::bigint AS size_bytes
             FROM public.catalog, jsonb_array_elements(payload->'tables') AS of_table,
                  jsonb_array_elements(of_table->'indexes') AS known",
        ),
        View::new(
            "plan",
            "Plans of families, made without running them",
            "SELECT instance_id, family_id, plan.identity AS plan_identity, plan.first_read_at, plan.read_at, plan.database_name, plan.text
             FROM public.plan JOIN public.family USING (family_id) WHERE plan.text IS NOT NULL",
        ),
        View::new(
            "marker",
            "What happened at a time",
            "SELECT instance_id, marker_id, at, kind, text, noted_by FROM public.marker",
        ),
        View::new(
            "setting",
            "Each value that a setting had, since when it was seen",
            "SELECT instance_id, name, seen_at, value, unit, source, pending_restart FROM public.setting",
        ),
        View::new(
            "lasting_change",
            "Lasting changes, without those withdrawn",
            "SELECT instance_id, change_id, family_id, measured, object, onset_at, found_at, ratio
             FROM public.lasting_change WHERE NOT withdrawn",
        ),
        View::new(
            "alarm",
            "Alarms, open and closed",
            "SELECT instance_id, alarm_id, trouble, object, opened_at, closed_at, payload->'sign'->>'text' AS text FROM public.alarm",
        ),
        View::new(
            "advice",
            "The advice book",
            "SELECT instance_id, advice_id, kind, subject, state, made_at, applied_at, applied_by, saved_seconds_per_day,
                    verdict, measured_seconds_per_day
             FROM public.advice",
        ),
    ];
    for (level, table, what) in LEVELS {
        counters(&mut views, level, table, what);
        views.push(looks(level, table, what));
        views.push(load(level, table, what));
        views.push(metrics(level, table, what));
        views.push(observed(level, table, what));
    }
    views
}

/// One view for each kind of counters.
fn counters(views: &mut Vec<View>, level: &str, table: &str, what: &str) {
    macro_rules! kinds {
        ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
            views.push(counters_of::<$counters>(level, table, what));
        )+};
    }
    hurnix_core::all_counters!(kinds);
}

fn counters_of<C: Kept>(level: &str, table: &str, what: &str) -> View {
    let figures: Vec<String> = C::NAMES.iter().map(|name| format!("entry.{name}")).collect();
    let figures = figures.join(", ");
    let columns = format!("{}, lower_bound, {}", C::OBJECT, C::NAMES.join(", "));
    let lists: Vec<String> = columns.split(", ").map(|column| format!("kept.{column}")).collect();
    let (object, joins) = match <C::Key as ObjectKey>::SORT {
        KeySort::Number => (format!("entry.{}", C::OBJECT), String::new()),
        KeySort::Name => ("object.name AS object".to_owned(), named("object", &format!("entry.{}", C::OBJECT))),
        KeySort::Statement => (
            "entry.family_id, account.name AS account, database.name AS database".to_owned(),
            named("account", "entry.account_id") + &named("database", "entry.database_id"),
        ),
    };
    View {
        name: format!("{}_{level}", C::STEM),
        holds: format!("Counters of the kind `{}`, {what}", C::FIGURES.name()),
        sql: format!(
            "SELECT kept.instance_id, kept.to_at, {object}, entry.lower_bound, {figures}
             FROM public.{}_{table} kept, LATERAL unnest({}) AS entry({columns}){joins}",
            C::STEM,
            lists.join(", ")
        ),
    }
}

/// Joins the name that a column holds the number of.
fn named(name: &str, column: &str) -> String {
    format!(" LEFT JOIN public.name {name} ON {name}.name_id = {column}")
}

/// Looks at the sessions: what load is divided by.
fn looks(level: &str, table: &str, what: &str) -> View {
    let sql = if level == "as_read" {
        "SELECT instance_id, sampled_at AS to_at, 1::bigint AS looks, sessions::bigint FROM public.activity_sample"
            .to_owned()
    } else {
        format!("SELECT instance_id, to_at, samples AS looks, sessions FROM public.activity_sample_{table}")
    };
    View::new(&format!("look_{level}"), &format!("Looks at the sessions, with those connected, {what}"), sql)
}

/// Busy sessions by what they can be told apart by.
fn load(level: &str, table: &str, what: &str) -> View {
    let kinds: Vec<String> =
        WaitKind::all().map(|kind| format!("WHEN {} THEN '{}'", kind.position(), kind.name())).collect();
    let (source, at, busy) = if level == "as_read" {
        ("activity".to_owned(), "sampled_at AS to_at", "1::bigint")
    } else {
        (format!("activity_{table}"), "to_at", "busy")
    };
    let names: String = ["event", "account", "program", "client", "database"]
        .iter()
        .map(|name| named(name, &format!("seen.{name}_id")))
        .collect();
    let sql = format!(
        "SELECT seen.instance_id, {at}, CASE wait_kind {} END AS wait_kind, event.name AS event, family_id, account.name AS account,
                program.name AS program, client.name AS client, database.name AS database, {busy} AS busy
         FROM public.{source} seen{names} WHERE wait_kind IS NOT NULL",
        kinds.join(" ")
    );
    View::new(&format!("load_{level}"), &format!("Busy sessions, summed over the looks, {what}"), sql)
}

/// Single figures.
fn metrics(level: &str, table: &str, what: &str) -> View {
    let metrics: Vec<String> =
        Metric::all().map(|metric| format!("WHEN {} THEN '{}'", metric.number(), metric.name())).collect();
    let (source, lists, columns, values) = if level == "as_read" {
        let values = "1::bigint AS readings, entry.value AS total, entry.value AS least, entry.value AS most";
        ("measure".to_owned(), "kept.metric, kept.object_id, kept.value", "metric, object_id, value", values)
    } else {
        (
            format!("measure_{table}"),
            "kept.metric, kept.object_id, kept.readings, kept.total, kept.least, kept.most",
            "metric, object_id, readings, total, least, most",
            "entry.readings, entry.total, entry.least, entry.most",
        )
    };
    let sql = format!(
        "SELECT kept.instance_id, kept.to_at, CASE entry.metric {} END AS metric, object.name AS object, {values}
         FROM public.{source} kept, LATERAL unnest({lists}) AS entry({columns}){}",
        metrics.join(" "),
        named("object", "entry.object_id")
    );
    View::new(&format!("metric_{level}"), &format!("Single figures: how often read, sum, least and most, {what}"), sql)
}

/// What was observed: which seconds counters are of.
fn observed(level: &str, table: &str, what: &str) -> View {
    let sql = if level == "as_read" {
        "SELECT instance_id, taken_at AS to_at, kind, from_at, extract(epoch FROM taken_at - from_at)::float8 AS seconds
         FROM public.snapshot WHERE from_at IS NOT NULL"
            .to_owned()
    } else {
        format!("SELECT instance_id, to_at, kind, from_at, seconds FROM public.observed_{table}")
    };
    View::new(&format!("observed_{level}"), &format!("Seconds in which each kind of figures was counted, {what}"), sql)
}

impl Store {
    /// Makes the views, or brings them up to date where a later version has more of them.
    pub(crate) async fn make_views(&self) -> Result<()> {
        let views = views();
        let all: String = views.iter().map(|view| format!("{} {} {};", view.name, view.holds, view.sql)).collect();
        let mut connection = self.pool.acquire().await?;
        let mark: Option<String> = sqlx::query_scalar(
            "SELECT obj_description(oid, 'pg_namespace') FROM pg_namespace WHERE nspname = 'figures'",
        )
        .fetch_optional(&mut *connection)
        .await?
        .flatten();
        let mut transaction = connection.begin().await?;
        let digest: String = sqlx::query_scalar("SELECT md5($1)").bind(&all).fetch_one(&mut *transaction).await?;
        let is_newest = mark.as_deref().is_some_and(|mark| mark.ends_with(&digest));
        if is_newest {
            return Ok(transaction.rollback().await?);
        }
        sqlx::query("SELECT pg_advisory_xact_lock($1)").bind(MAKING).execute(&mut *transaction).await?;
        sqlx::raw_sql("CREATE SCHEMA IF NOT EXISTS figures").execute(&mut *transaction).await?;
        for View { name, holds, sql } in &views {
            let made =
                format!("CREATE OR REPLACE VIEW figures.{name} AS {sql}; COMMENT ON VIEW figures.{name} IS '{holds}'");
            sqlx::raw_sql(AssertSqlSafe(made)).execute(&mut *transaction).await?;
        }
        let mark = format!("COMMENT ON SCHEMA figures IS 'Figures that Hurnix keeps, to be read with SQL; {digest}'");
        sqlx::raw_sql(AssertSqlSafe(mark)).execute(&mut *transaction).await?;
        Ok(transaction.commit().await?)
    }

    /// Makes an account of the repository's server that may read the views and nothing else, or gives one that was made so
    /// a new password. Says whether it is new. Only an owner of the repository that may make roles can. An account that
    /// was not made here is left alone.
    pub async fn make_sql_account(&self, name: &str, password: &str) -> Result<bool> {
        let mut transaction = self.pool.begin().await?;
        let row = sqlx::query(
            "SELECT NOT EXISTS (SELECT FROM pg_roles WHERE rolname = $1) AS is_new,
                    EXISTS (SELECT FROM pg_roles WHERE rolname = $1 AND shobj_description(oid, 'pg_authid') = $3) AS is_ours,
                    format('CREATE ROLE %I', $1) AS made,
                    format('ALTER ROLE %1$I LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE PASSWORD %2$L;
                            ALTER ROLE %1$I SET default_transaction_read_only = on;
                            ALTER ROLE %1$I SET statement_timeout = ''60s'';
                            ALTER ROLE %1$I SET search_path = figures;
                            COMMENT ON ROLE %1$I IS %3$L;
                            GRANT USAGE ON SCHEMA figures TO %1$I;
                            GRANT SELECT ON ALL TABLES IN SCHEMA figures TO %1$I;
                            ALTER DEFAULT PRIVILEGES IN SCHEMA figures GRANT SELECT ON TABLES TO %1$I', $1, $2, $3) AS granted",
        )
        .bind(name)
        .bind(password)
        .bind(OURS)
        .fetch_one(&mut *transaction)
        .await?;
        let is_new: bool = row.get("is_new");
        if !is_new && !row.get::<bool, _>("is_ours") {
            return Err(StoreProblem::Taken { field: "name", what: "the role", value: name.to_owned() });
        }
        if is_new {
            sqlx::raw_sql(AssertSqlSafe(row.get::<String, _>("made"))).execute(&mut *transaction).await?;
        }
        sqlx::raw_sql(AssertSqlSafe(row.get::<String, _>("granted"))).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(is_new)
    }
}
