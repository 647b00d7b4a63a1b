//! What somebody was told of and still goes on (`core::notice`).

use brightharbor_core::notice::{Condition, Told, Topic};
use jiff::Timestamp;
use rusqlite::params;

use super::{Store, StoreError, from_word, word};

impl Store {
    pub fn told(&self) -> Result<Vec<Told>, StoreError> {
        let mut query = self
            .connection
            .prepare_cached("SELECT topic, subject, code, since, told FROM notice ORDER BY topic, subject")?;
        let rows = query
            .query_map([], |row| {
                let (topic, subject, code): (String, String, Option<String>) = (row.get(0)?, row.get(1)?, row.get(2)?);
                Ok((topic, subject, code, row.get::<_, i64>(3)?, row.get::<_, i64>(4)?))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        let time = |second: i64| Timestamp::from_second(second).map_err(|error| StoreError::Value(error.to_string()));
        let told = |(topic, subject, code, since, told): (String, String, Option<String>, i64, i64)| {
            Ok(Told { topic: from_word::<Topic>(&topic)?, subject, code, since: time(since)?, told: time(told)? })
        };
        rows.into_iter().map(told).collect()
    }

    /// Somebody was told of it just now.
    pub fn note_told(&self, condition: &Condition, since: Timestamp, now: Timestamp) -> Result<(), StoreError> {
        self.connection.execute(
            "INSERT INTO notice (topic, subject, code, since, told) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (topic, subject) DO UPDATE SET code = excluded.code, told = excluded.told",
            params![word(&condition.topic)?, condition.subject, condition.code, since.as_second(), now.as_second()],
        )?;
        Ok(())
    }

    /// It is over, and somebody was told.
    pub fn forget_told(&self, condition: &Condition) -> Result<(), StoreError> {
        let values = params![word(&condition.topic)?, condition.subject];
        self.connection.execute("DELETE FROM notice WHERE topic = $1 AND subject = $2", values)?;
        Ok(())
    }
}
