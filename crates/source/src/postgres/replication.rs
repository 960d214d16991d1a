use hurnix_core::readings::replication::{Follower, Replication, Slot, Upstream};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::{PostgresSource, at, marked};
use crate::ReadProblem;

/// What the server is. A replica has what it received; where nothing was received since it started, what it replayed.
const OWN: &str = "SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us,
        (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint AS started_us, current_setting('cluster_name') AS name, pg_is_in_recovery() AS is_replica,
        pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())
                             ELSE pg_current_wal_lsn() END, '0/0')::bigint AS position,
        pg_snapshot_xmax(pg_current_snapshot())::text::bigint AS next_transaction";

/// What a replica follows. Of the connection string no more is read than address, port and slot: it may hold a password.
const UPSTREAM: &str = "SELECT coalesce(r.sender_host, substring(s.conninfo FROM 'host=''?([^ '']+)'), '') AS host,
        coalesce(r.sender_port, substring(s.conninfo FROM 'port=''?([0-9]+)')::int) AS port,
        coalesce(nullif(r.slot_name, ''), nullif(current_setting('primary_slot_name', true), '')) AS slot,
        coalesce(r.status = 'streaming', false) AS is_connected,
        (extract(epoch FROM r.last_msg_receipt_time) * 1000000)::bigint AS heard_us,
        pg_wal_lsn_diff(pg_last_wal_replay_lsn(), '0/0')::bigint AS replayed,
        (extract(epoch FROM pg_last_xact_replay_timestamp()) * 1000000)::bigint AS replayed_commit_us,
        pg_is_wal_replay_paused() AS is_paused,
        extract(epoch FROM current_setting('recovery_min_apply_delay')::interval)::float8 AS delay_seconds
     FROM (SELECT (SELECT setting FROM pg_settings WHERE name = 'primary_conninfo') AS conninfo) s LEFT JOIN pg_stat_wal_receiver r ON true";

/// Those that read its WAL; what a replica has is what it sends on.
const FOLLOWERS: &str = "SELECT r.pid, r.application_name AS name, coalesce(r.usename::text, '') AS account, coalesce(host(r.client_addr), '') AS client,
        (extract(epoch FROM r.backend_start) * 1000000)::bigint AS started_us, coalesce(r.state, '') AS state,
        coalesce(r.sync_state, '') AS synchronous, s.slot_name::text AS slot, coalesce(s.slot_type = 'logical', false) AS is_logical,
        pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN greatest(pg_last_wal_receive_lsn(), pg_last_wal_replay_lsn())
                             ELSE pg_current_wal_lsn() END, r.replay_lsn)::bigint AS behind,
        extract(epoch FROM r.replay_lag)::float8 AS lag
     FROM pg_stat_replication r LEFT JOIN pg_replication_slots s ON s.active_pid = r.pid
     WHERE r.state IS DISTINCT FROM 'backup' ORDER BY r.backend_start, r.pid";

/// Columns of slots that came with version 17.
const SINCE_17: &str = "(extract(epoch FROM inactive_since) * 1000000)::bigint";

impl PostgresSource {
    /// Whom the server follows and who follows it, as it stands.
    pub(super) async fn read_replication_state(&mut self) -> Result<Replication, ReadProblem> {
        let own = sqlx::query(AssertSqlSafe(marked(OWN))).fetch_one(&mut self.connection).await?;
        let is_replica: bool = own.get("is_replica");
        let inactive = if self.server.version_number >= 170_000 { SINCE_17 } else { "NULL::bigint" };
        let slots = format!(
            "SELECT slot_name::text AS name, slot_type = 'logical' AS is_logical, coalesce(database::text, '') AS database, active, temporary,
                greatest(pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_lsn() END, restart_lsn), 0)::bigint AS kept,
                coalesce(wal_status, '') AS state, safe_wal_size AS safe, greatest(age(xmin), age(catalog_xmin))::bigint AS xmin_age, {inactive} AS inactive_us
             FROM pg_replication_slots ORDER BY slot_name"
        );
        let upstream = if is_replica { self.rows(UPSTREAM).await? } else { Vec::new() };
        let conflicts = if is_replica { self.conflicts().await? } else { Vec::new() };
        let reset = "SELECT (extract(epoch FROM max(stats_reset)) * 1000000)::bigint AS reset_us FROM pg_stat_database";
        let conflicts_since = self.rows(reset).await?.first().and_then(|row| row.get::<Option<i64>, _>("reset_us"));
        Ok(Replication {
            at: at(own.get("at_us")),
            started_at: at(own.get("started_us")),
            system_identifier: self.system_identifier().await?,
            name: own.get("name"),
            is_replica,
            position: own.get("position"),
            next_transaction: own.get("next_transaction"),
            upstream: upstream.first().map(upstream_of),
            followers: self.rows(FOLLOWERS).await?.iter().map(follower).collect(),
            slots: self.rows(&slots).await?.iter().map(slot).collect(),
            conflicts,
            conflicts_since: conflicts_since.map(at),
        })
    }

    /// Statements that replay has ended, by the column that counts them.
    async fn conflicts(&mut self) -> Result<Vec<(String, i64)>, ReadProblem> {
        let sql = "SELECT replace(key, 'confl_', '') AS cause, sum(value::bigint)::bigint AS count
             FROM pg_stat_database_conflicts c, jsonb_each_text(to_jsonb(c)) WHERE key LIKE 'confl\\_%' GROUP BY 1 ORDER BY 2 DESC, 1";
        Ok(self.rows(sql).await?.iter().map(|row| (row.get("cause"), row.get("count"))).collect())
    }
}

fn moment(row: &PgRow, column: &str) -> Option<hurnix_core::Timestamp> {
    row.get::<Option<i64>, _>(column).map(at)
}

fn upstream_of(row: &PgRow) -> Upstream {
    Upstream {
        host: row.get("host"),
        port: row.get::<Option<i32>, _>("port").and_then(|port| u16::try_from(port).ok()),
        slot: row.get("slot"),
        is_connected: row.get("is_connected"),
        heard_at: moment(row, "heard_us"),
        replayed: row.get("replayed"),
        replayed_commit_at: moment(row, "replayed_commit_us"),
        is_paused: row.get("is_paused"),
        delay_seconds: row.get("delay_seconds"),
    }
}

fn follower(row: &PgRow) -> Follower {
    Follower {
        process: row.get("pid"),
        name: row.get("name"),
        account: row.get("account"),
        client: row.get("client"),
        started_at: at(row.get("started_us")),
        state: row.get("state"),
        synchronous: row.get("synchronous"),
        slot: row.get("slot"),
        is_logical: row.get("is_logical"),
        behind_bytes: row.get("behind"),
        lag_seconds: row.get("lag"),
    }
}

fn slot(row: &PgRow) -> Slot {
    Slot {
        name: row.get("name"),
        is_logical: row.get("is_logical"),
        database: row.get("database"),
        is_active: row.get("active"),
        is_temporary: row.get("temporary"),
        kept_bytes: row.get("kept"),
        state: row.get("state"),
        safe_bytes: row.get("safe"),
        xmin_age: row.get("xmin_age"),
        inactive_since: moment(row, "inactive_us"),
    }
}
