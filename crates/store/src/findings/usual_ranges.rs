use hurnix_core::Timestamp;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::normal_range::NormalRange;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, from_json, time, to_json};

impl Store {
    /// Keeps what is usual of an instance in place of what was learnt before.
    pub async fn write_usual_ranges<'a>(
        &self,
        instance_id: i32,
        learnt_at: Timestamp,
        ranges: impl Iterator<Item = (ServerFigure, &'a str, &'a NormalRange)>,
    ) -> Result<()> {
        let (mut figures, mut objects, mut payloads) = (Vec::new(), Vec::new(), Vec::new());
        for (figure, object, range) in ranges {
            figures.push(figure.name());
            objects.push(object);
            payloads.push(to_json("usual range", range)?);
        }
        let mut transaction = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO usual_range (instance_id, figure, object, learnt_at, payload)
             SELECT $1, figure, object, $2, payload FROM unnest($3::text[], $4::text[], $5::jsonb[]) AS learnt(figure, object, payload)
             ON CONFLICT (instance_id, figure, object) DO UPDATE SET learnt_at = excluded.learnt_at, payload = excluded.payload",
        )
        .bind(instance_id)
        .bind(time(learnt_at))
        .bind(figures)
        .bind(objects)
        .bind(payloads)
        .execute(&mut *transaction)
        .await?;
        sqlx::query("DELETE FROM usual_range WHERE instance_id = $1 AND learnt_at < $2")
            .bind(instance_id)
            .bind(time(learnt_at))
            .execute(&mut *transaction)
            .await?;
        Ok(transaction.commit().await?)
    }

    /// What load is usual of instances, with when that was learnt. The range is left out where it was learnt when the
    /// caller's was, which `known` tells of each.
    pub async fn usual_loads(
        &self,
        instances: &[i32],
        known: &[Option<Timestamp>],
    ) -> Result<Vec<(i32, Timestamp, Option<NormalRange>)>> {
        let rows = sqlx::query(
            "SELECT instance_id, usual_range.learnt_at,
                    CASE WHEN known.learnt_at IS DISTINCT FROM usual_range.learnt_at THEN payload END AS payload
             FROM unnest($1::int[], $2::timestamptz[]) AS known(instance_id, learnt_at)
             JOIN usual_range USING (instance_id)
             WHERE figure = $3 AND object = ''",
        )
        .bind(instances)
        .bind(known.iter().map(|learnt_at| learnt_at.map(time)).collect::<Vec<_>>())
        .bind(ServerFigure::Load.name())
        .fetch_all(&self.pool)
        .await?;
        let range = |row: &PgRow| {
            let payload: Option<serde_json::Value> = row.get("payload");
            payload.map(|payload| from_json("usual range", payload)).transpose()
        };
        rows.iter().map(|row| Ok((row.get("instance_id"), at(row.get("learnt_at")), range(row)?))).collect()
    }

    /// What is usual of some figures of an instance, with their objects.
    pub async fn usual_ranges(
        &self,
        instance_id: i32,
        figures: &[ServerFigure],
    ) -> Result<Vec<(ServerFigure, String, NormalRange)>> {
        let names: Vec<String> = figures.iter().map(|figure| figure.name()).collect();
        let rows = sqlx::query(
            "SELECT figure, object, payload FROM usual_range WHERE instance_id = $1 AND figure = ANY($2) ORDER BY figure, object",
        )
        .bind(instance_id)
        .bind(names)
        .fetch_all(&self.pool)
        .await?;
        let known = rows.iter().filter_map(|row| Some((ServerFigure::named(row.get("figure"))?, row)));
        known
            .map(|(figure, row)| Ok((figure, row.get("object"), from_json("usual range", row.get("payload"))?)))
            .collect()
    }
}
