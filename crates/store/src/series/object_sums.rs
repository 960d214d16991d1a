//! What tables and indexes did in a window.

use std::collections::HashMap;

use hurnix_core::Named;
use hurnix_core::readings::counters::NestedCounters;
use sqlx::{QueryBuilder, Row};

use crate::series::periods::Kind;
use crate::series::pieces::{Entries, Fine, Pieces, Rows};
use crate::series::statements::observed;
use crate::{Result, Store};

impl Store {
    /// What each object of a kind of counters did in a window, by the server's number of it, and the seconds that were
    /// counted.
    pub async fn object_sums<C: Kind<Object = u32>>(
        &self,
        instance_id: i32,
        pieces: &Pieces,
    ) -> Result<(HashMap<u32, C>, f64)> {
        let (sums, seconds) = self.sums_by(instance_id, pieces, C::OBJECT).await?;
        Ok((sums.into_iter().map(|(object, sum)| (object as u32, sum)).collect(), seconds))
    }

    /// What functions and procedures ran in a window, by number of the family, and the seconds that were counted.
    pub async fn nested_sums(&self, instance_id: i32, pieces: &Pieces) -> Result<(HashMap<i64, NestedCounters>, f64)> {
        self.sums_by(instance_id, pieces, "family_id").await
    }

    async fn sums_by<C: Kind>(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        column: &str,
    ) -> Result<(HashMap<i64, C>, f64)> {
        let sums: Vec<String> = C::NAMES.iter().map(|name| format!("coalesce(sum({name}), 0)::bigint")).collect();
        let mut sql = QueryBuilder::new(format!(
            "SELECT {column}::bigint AS object, ARRAY[{}] AS figures FROM ",
            sums.join(", ")
        ));
        let columns = format!("{column}, {}", C::NAMES.join(", "));
        let rows = Rows { fine: Fine::Lists { table: C::TABLE }, stem: C::STEM, columns, which: Entries::All };
        rows.push(&mut sql, instance_id, pieces);
        sql.push(" period GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let mut sql = QueryBuilder::new("SELECT coalesce(sum(seconds), 0)::float8 AS seconds FROM ");
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = ").push_bind(C::FIGURES.name());
        let seconds = sql.build().fetch_one(&self.pool).await?.get("seconds");
        let sums = rows.iter().map(|row| (row.get("object"), C::from_values(&row.get::<Vec<i64>, _>("figures"))));
        Ok((sums.collect(), seconds))
    }
}
