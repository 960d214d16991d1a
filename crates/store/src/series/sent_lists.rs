//! Lists of numbers as the repository's server sends them.

use sqlx::Row;
use sqlx::postgres::{PgRow, PgValueFormat};

use crate::Result;

/// Bytes before the entries of a list of one dimension (PostgreSQL, `array_send`): dimensions, whether there are entries
/// without a value, their type, their number, and the place of the first.
const HEAD: usize = 20;
/// Bytes of an entry: its length, then a number of eight bytes.
const ENTRY: usize = 12;

/// A list of big integers, all with a value; nothing where the column has none.
///
/// The general way takes forty nanoseconds for each number, and a month of statements has more than a million.
pub(crate) fn big_integers(row: &PgRow, column: &str) -> Result<Option<Vec<i64>>> {
    let sent = row.try_get_raw(column)?;
    match (sent.format(), sent.as_bytes()) {
        (PgValueFormat::Binary, Ok(bytes)) => match entries(bytes) {
            Some(list) => Ok(Some(list)),
            // Whatever else it is, the general way knows, or says what is wrong with it.
            None => Ok(row.try_get(column)?),
        },
        _ => Ok(row.try_get(column)?),
    }
}

/// The entries of a list of one dimension, each of them a number of eight bytes.
fn entries(bytes: &[u8]) -> Option<Vec<i64>> {
    let (head, entries) = bytes.split_at_checked(HEAD)?;
    let dimensions = i32::from_be_bytes(head[..4].try_into().ok()?);
    let count = i32::from_be_bytes(head[12..16].try_into().ok()?);
    let is_plain = dimensions == 1 && entries.len() == usize::try_from(count).ok()? * ENTRY;
    let number = |entry: &[u8]| match entry {
        [0, 0, 0, 8, number @ ..] => number.try_into().ok().map(i64::from_be_bytes),
        _ => None,
    };
    if is_plain { entries.chunks_exact(ENTRY).map(number).collect() } else { None }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A list as it is sent, with its number of dimensions.
    fn sent(dimensions: i32, numbers: &[i64]) -> Vec<u8> {
        let head = [dimensions, 0, 20, numbers.len() as i32, 1];
        let mut bytes: Vec<u8> = head.iter().flat_map(|word| word.to_be_bytes()).collect();
        numbers.iter().for_each(|number| {
            bytes.extend(8i32.to_be_bytes());
            bytes.extend(number.to_be_bytes());
        });
        bytes
    }

    #[test]
    fn numbers_are_read_as_they_were_sent_and_nothing_else_is_taken_for_them() {
        let numbers = [0, 1, -7, i64::MAX, i64::MIN];
        assert_eq!(entries(&sent(1, &numbers)), Some(numbers.to_vec()));
        assert_eq!(entries(&sent(2, &numbers)), None, "of several dimensions");
        let mut cut = sent(1, &numbers);
        cut.pop();
        assert_eq!(entries(&cut), None);
        let mut without_value = sent(1, &numbers);
        without_value[HEAD..HEAD + 4].copy_from_slice(&(-1i32).to_be_bytes());
        assert_eq!(entries(&without_value), None);
        assert_eq!(entries(&[]), None);
    }
}
