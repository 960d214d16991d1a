use hurnix_core::readings::counters::{CheckpointCounters, Counters};
use sqlx::{QueryBuilder, Row};

use crate::series::databases::sums;
use crate::series::pieces::{Entries, Fine, Pieces, Rows};
use crate::series::statements::observed;
use crate::{Result, Store};

impl Store {
    /// What checkpoints did in a window, and the seconds of it in which they were counted.
    pub async fn checkpoint_sums(&self, instance_id: i32, pieces: &Pieces) -> Result<(CheckpointCounters, f64)> {
        let mut sql = QueryBuilder::new(format!("SELECT ARRAY[{}] AS figures FROM ", sums::<CheckpointCounters>()));
        let periods = Rows {
            fine: Fine::Lists { table: "checkpoint_period" },
            stem: "checkpoint",
            columns: CheckpointCounters::NAMES.join(", "),
            which: Entries::All,
        };
        periods.push(&mut sql, instance_id, pieces);
        sql.push(" period");
        let figures: Vec<i64> = sql.build().fetch_one(&self.pool).await?.get("figures");
        let mut sql = QueryBuilder::new("SELECT coalesce(sum(seconds), 0)::float8 AS seconds FROM ");
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = 'checkpoints'");
        let seconds = sql.build().fetch_one(&self.pool).await?.get("seconds");
        Ok((CheckpointCounters::from_values(&figures), seconds))
    }
}
