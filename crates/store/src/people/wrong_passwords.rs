use hurnix_core::access::guessing::FORGIVEN_SECONDS;

use crate::{Result, Store};

impl Store {
    /// Mistakes that are counted for somebody, and seconds since the last.
    pub async fn mistakes(&self, counted_for: &str) -> Result<Option<(u32, f64)>> {
        let row: Option<(i32, f64)> = sqlx::query_as(
            "SELECT mistakes, extract(epoch FROM now() - last_at)::float8 FROM wrong_password WHERE counted_for = $1",
        )
        .bind(counted_for)
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|(mistakes, since_last)| (mistakes.unsigned_abs(), since_last)))
    }

    /// Counts one more mistake for each, and forgets those that are forgiven.
    pub async fn note_mistake(&self, counted_for: &[String]) -> Result<()> {
        sqlx::query("DELETE FROM wrong_password WHERE last_at < now() - make_interval(secs => $1)")
            .bind(FORGIVEN_SECONDS)
            .execute(&self.pool)
            .await?;
        // In one order, so that two of these never wait for each other.
        sqlx::query(
            "INSERT INTO wrong_password (counted_for, mistakes, last_at)
             SELECT who, 1, now() FROM unnest($1::text[]) AS who ORDER BY who
             ON CONFLICT (counted_for) DO UPDATE SET mistakes = least(wrong_password.mistakes + 1, 1000000), last_at = now()",
        )
        .bind(counted_for)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Forgives all mistakes made with an account, wherever they were made.
    pub async fn forgive_account(&self, name: &str) -> Result<()> {
        sqlx::query("DELETE FROM wrong_password WHERE starts_with(counted_for, $1)")
            .bind(format!("account {name} from "))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Forgives the mistakes that were counted for these.
    pub async fn forgive(&self, counted_for: &[String]) -> Result<()> {
        sqlx::query("DELETE FROM wrong_password WHERE counted_for = ANY($1)")
            .bind(counted_for)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whether the account of that name has signed in from there within a month.
    pub async fn is_known_client(&self, name: &str, client: &str) -> Result<bool> {
        let known = sqlx::query_scalar(
            "SELECT EXISTS (SELECT FROM known_client JOIN account USING (account_id)
                WHERE name = $1 AND client = $2 AND seen_at > now() - interval '30 days')",
        )
        .bind(name)
        .bind(client)
        .fetch_one(&self.pool)
        .await?;
        Ok(known)
    }
}
