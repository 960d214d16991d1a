//! Numbers of families as they are kept and told: as text, because browsers round large numbers. Earlier versions kept
//! them as numbers.

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serializer};

#[derive(Deserialize)]
#[serde(untagged)]
enum Kept {
    Number(i64),
    Text(String),
}

pub fn serialize<S: Serializer>(number: &i64, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(number)
}

pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<i64, D::Error> {
    match Kept::deserialize(deserializer)? {
        Kept::Number(number) => Ok(number),
        Kept::Text(text) => text.parse().map_err(D::Error::custom),
    }
}
