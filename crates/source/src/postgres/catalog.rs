use std::collections::HashMap;

use hurnix_core::readings::catalog::{
    Catalog, Column, ColumnStatistics, Extension, ForeignKey, Index, IndexKey, PlannerCosts, Table,
};
use hurnix_core::readings::search_path::search_paths;
use sqlx::{AssertSqlSafe, Row};

use super::{PostgresSource, at};
use crate::ReadProblem;

impl PostgresSource {
    /// Tables, columns and indexes of the connected database, without the server's own.
    ///
    /// Read from the catalog's rows alone, sizes included (as of the server's last count), so that no
    /// table is locked for it, not even against being dropped.
    pub(super) async fn read_catalog(&mut self) -> Result<Catalog, ReadProblem> {
        let head = sqlx::query(
            "SELECT /* hurnix */ (extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us, current_database()::text AS database,
                    current_setting('seq_page_cost')::float8 AS sequential_page,
                    current_setting('random_page_cost')::float8 AS random_page,
                    current_setting('cpu_tuple_cost')::float8 AS row,
                    current_setting('cpu_index_tuple_cost')::float8 AS index_entry,
                    current_setting('cpu_operator_cost')::float8 AS operator,
                    current_setting('block_size')::bigint AS page_bytes",
        )
        .fetch_one(&mut self.connection)
        .await?;
        let page_bytes: i64 = head.get("page_bytes");
        let mut columns = self.columns().await?;
        let mut indexes = self.index_catalog(page_bytes).await?;
        let mut foreign_keys = self.foreign_keys().await?;
        let tables = sqlx::query(
            "SELECT /* hurnix */ c.oid::bigint AS oid, n.nspname::text AS schema, c.relname::text AS name, c.reltuples::float8 AS rows,
                    c.relpages::bigint AS pages, coalesce(t.relpages, 0)::bigint AS large_value_pages,
                    c.relkind = 'p' AS is_partitioned,
                    ARRAY(SELECT a.attname::text FROM pg_partitioned_table p
                          CROSS JOIN unnest(p.partattrs::int2[]) WITH ORDINALITY AS k(attnum, place)
                          JOIN pg_attribute a ON a.attrelid = p.partrelid AND a.attnum = k.attnum
                          WHERE p.partrelid = c.oid ORDER BY place) AS partition_keys,
                    CASE WHEN c.relispartition THEN (SELECT inhparent::bigint FROM pg_inherits WHERE inhrelid = c.oid) END AS part_of
             FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             LEFT JOIN pg_class t ON t.oid = c.reltoastrelid
             WHERE c.relkind IN ('r', 'p', 'm') AND c.relpersistence <> 't'
               AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
             ORDER BY n.nspname, c.relname",
        )
        .fetch_all(&mut self.connection)
        .await?;
        let tables = tables
            .iter()
            .map(|row| {
                let oid = row.get::<i64, _>("oid") as u32;
                let (rows, pages): (f64, i64) = (row.get("rows"), row.get("pages"));
                Table {
                    oid,
                    schema: row.get("schema"),
                    name: row.get("name"),
                    rows: counted_rows(rows, pages),
                    pages,
                    size_bytes: (pages + row.get::<i64, _>("large_value_pages")) * page_bytes,
                    columns: columns.remove(&oid).unwrap_or_default(),
                    indexes: indexes.remove(&oid).unwrap_or_default(),
                    foreign_keys: foreign_keys.remove(&oid).unwrap_or_default(),
                    part_of: row.get::<Option<i64>, _>("part_of").map(|oid| oid as u32),
                    is_partitioned: row.get("is_partitioned"),
                    partition_keys: row.get("partition_keys"),
                }
            })
            .collect();
        let extensions = sqlx::query(
            "SELECT /* hurnix */ extname::text AS name, extversion AS version FROM pg_extension ORDER BY 1",
        )
        .fetch_all(&mut self.connection)
        .await?;
        let search_paths = self.search_paths().await?;
        Ok(Catalog {
            search_paths,
            extensions: extensions
                .iter()
                .map(|row| Extension { name: row.get("name"), version: row.get("version") })
                .collect(),
            at: at(head.get("at_us")),
            database: head.get("database"),
            tables,
            costs: PlannerCosts {
                sequential_page: head.get("sequential_page"),
                random_page: head.get("random_page"),
                row: head.get("row"),
                index_entry: head.get("index_entry"),
                operator: head.get("operator"),
            },
        })
    }

    /// In which schemas names without one are looked for: by default, and by what was set for accounts and databases.
    async fn search_paths(&mut self) -> Result<Vec<Vec<String>>, ReadProblem> {
        let row = sqlx::query(
            "SELECT /* hurnix */ ARRAY(
                        SELECT reset_val FROM pg_settings WHERE name = 'search_path'
                        UNION ALL
                        SELECT substr(entry, length('search_path=') + 1) FROM pg_db_role_setting s, unnest(s.setconfig) AS entry
                        WHERE entry LIKE 'search\\_path=%'
                          AND s.setdatabase IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
                    ) AS settings,
                    ARRAY(SELECT n.nspname::text FROM pg_namespace n JOIN pg_roles r ON r.rolname = n.nspname ORDER BY 1) AS own_schemas",
        )
        .fetch_one(&mut self.connection)
        .await?;
        Ok(search_paths(&row.get::<Vec<String>, _>("settings"), &row.get::<Vec<String>, _>("own_schemas")))
    }

    async fn columns(&mut self) -> Result<HashMap<u32, Vec<Column>>, ReadProblem> {
        let rows = sqlx::query(
            "SELECT /* hurnix */ a.attrelid::bigint AS table_oid, a.attname::text AS name, format_type(a.atttypid, a.atttypmod) AS type_name,
                    s.n_distinct::float8 AS distinct, s.null_frac::float8 AS null_fraction,
                    s.avg_width::float8 AS width_bytes, s.correlation::float8 AS correlation,
                    s.most_common_freqs::float8[] AS common,
                    CASE WHEN a.atttypid = 'boolean'::regtype THEN s.most_common_vals::text END AS truths
             FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
             LEFT JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname AND s.attname = a.attname
                   AND s.inherited = (c.relkind = 'p')
             WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'm') AND c.relpersistence <> 't'
               AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
             ORDER BY a.attrelid, a.attnum",
        )
        .fetch_all(&mut self.connection)
        .await?;
        let mut by_table: HashMap<u32, Vec<Column>> = HashMap::new();
        for row in &rows {
            let distinct: Option<f64> = row.get("distinct");
            let common: Vec<f64> = row.get::<Option<_>, _>("common").unwrap_or_default();
            by_table.entry(row.get::<i64, _>("table_oid") as u32).or_default().push(Column {
                name: row.get("name"),
                type_name: row.get("type_name"),
                statistics: distinct.map(|distinct| ColumnStatistics {
                    true_share: row.get::<Option<&str>, _>("truths").and_then(|truths| true_share(truths, &common)),
                    common,
                    distinct,
                    null_fraction: row.get("null_fraction"),
                    width_bytes: row.get("width_bytes"),
                    correlation: row.get::<Option<f64>, _>("correlation").unwrap_or_default(),
                }),
            });
        }
        Ok(by_table)
    }

    /// Partitions have copies of their own of a reference of the whole table.
    async fn foreign_keys(&mut self) -> Result<HashMap<u32, Vec<ForeignKey>>, ReadProblem> {
        let rows = sqlx::query(
            "SELECT /* hurnix */ k.conrelid::bigint AS table_oid, k.conname::text AS name, n.nspname || '.' || p.relname AS parent,
                    ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY AS c(attnum, place)
                          JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = c.attnum ORDER BY place) AS columns
             FROM pg_constraint k JOIN pg_class p ON p.oid = k.confrelid JOIN pg_namespace n ON n.oid = p.relnamespace
             WHERE k.contype = 'f' ORDER BY k.conrelid, k.conname",
        )
        .fetch_all(&mut self.connection)
        .await?;
        let mut by_table: HashMap<u32, Vec<ForeignKey>> = HashMap::new();
        for row in &rows {
            by_table.entry(row.get::<i64, _>("table_oid") as u32).or_default().push(ForeignKey {
                name: row.get("name"),
                columns: row.get("columns"),
                parent: row.get("parent"),
            });
        }
        Ok(by_table)
    }

    async fn index_catalog(&mut self, page_bytes: i64) -> Result<HashMap<u32, Vec<Index>>, ReadProblem> {
        let nulls_equal = if self.server.version_number >= 150_000 { "i.indnullsnotdistinct" } else { "false" };
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT /* hurnix */ i.indexrelid::bigint AS oid, i.indrelid::bigint AS table_oid, c.relname::text AS name, m.amname::text AS method,
                    i.indisunique AS is_unique, i.indisvalid AND i.indisready AS valid, c.relpages::bigint AS pages,
                    c.reltuples::float8 AS rows, NOT i.indimmediate AS deferrable, {nulls_equal} AS nulls_equal,
                    EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = i.indexrelid) AS has_constraint,
                    i.indisreplident OR (t.relreplident = 'd' AND i.indisprimary) AS replica_identity,
                    (SELECT inhparent::bigint FROM pg_inherits p WHERE p.inhrelid = i.indexrelid) AS part_of,
                    (SELECT substr(entry, length('fillfactor=') + 1)::int FROM unnest(c.reloptions) AS entry
                     WHERE entry LIKE 'fillfactor=%') AS fill_factor,
                    i.indnkeyatts::int AS keys, concat_ws('/', i.indclass, i.indcollation, i.indoption) AS key_order,
                    NOT EXISTS (SELECT FROM generate_series(0, i.indnkeyatts - 1) AS k(place)
                        JOIN pg_opclass o ON o.oid = i.indclass[k.place]
                        LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[k.place]
                        WHERE NOT o.opcdefault OR i.indoption[k.place] <> 0
                            OR (a.attcollation IS NOT NULL AND i.indcollation[k.place] <> a.attcollation)) AS plain,
                    ARRAY(SELECT coalesce(a.attname::text, '') FROM unnest(i.indkey) WITH ORDINALITY AS k(attnum, place)
                          LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum AND k.attnum <> 0
                          ORDER BY place) AS columns,
                    CASE WHEN i.indexprs IS NULL THEN '{{}}' ELSE
                        ARRAY(SELECT pg_get_indexdef(i.indexrelid, place, true) FROM generate_series(1, i.indnkeyatts) AS place)
                    END AS key_texts,
                    CASE WHEN i.indpred IS NOT NULL THEN pg_get_expr(i.indpred, i.indrelid, true) END AS condition
             FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_am m ON m.oid = c.relam
             JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE n.nspname NOT LIKE 'pg\\_%' AND c.relpersistence <> 't' ORDER BY c.relname"
        )))
        .fetch_all(&mut self.connection)
        .await?;
        let mut by_table: HashMap<u32, Vec<Index>> = HashMap::new();
        for row in &rows {
            let keys = row.get::<i32, _>("keys") as usize;
            let columns: Vec<String> = row.get("columns");
            let texts: Vec<String> = row.get("key_texts");
            let key = |place: usize| match columns[place].as_str() {
                "" => IndexKey::Expression(texts.get(place).cloned().unwrap_or_default()),
                column => IndexKey::Column(column.to_owned()),
            };
            by_table.entry(row.get::<i64, _>("table_oid") as u32).or_default().push(Index {
                oid: row.get::<i64, _>("oid") as u32,
                name: row.get("name"),
                method: row.get("method"),
                unique: row.get("is_unique"),
                valid: row.get("valid"),
                constraint: row.get("has_constraint"),
                deferrable: row.get("deferrable"),
                nulls_equal: row.get("nulls_equal"),
                replica_identity: row.get("replica_identity"),
                part_of: row.get::<Option<i64>, _>("part_of").map(|oid| oid as u32),
                keys: (0..keys).map(key).collect(),
                order: row.get("key_order"),
                plain: row.get("plain"),
                carried: columns[keys..].to_vec(),
                condition: row.get("condition"),
                size_bytes: row.get::<i64, _>("pages") * page_bytes,
                rows: counted_rows(row.get("rows"), row.get("pages")),
                fill_factor: row.get("fill_factor"),
            });
        }
        Ok(by_table)
    }
}

/// Share of rows that are true, from the commonest values as the server writes them, `{t,f}`, and their shares.
fn true_share(truths: &str, common: &[f64]) -> Option<f64> {
    let place = truths.trim_matches(['{', '}']).split(',').position(|value| value == "t");
    Some(place.map_or(0.0, |place| common.get(place).copied().unwrap_or_default()))
}

/// Rows by the server's last count: -1 from version 14 on and 0 pages before it mean that it never counted.
fn counted_rows(rows: f64, pages: i64) -> Option<f64> {
    (rows > 0.0 || (rows == 0.0 && pages > 0)).then_some(rows)
}
