use hurnix_core::At;
use sqlx::PgConnection;

/// Microseconds between the Unix epoch and 2000-01-01, from which PostgreSQL counts.
const POSTGRES_EPOCH_MICROS: i64 = 946_684_800_000_000;
/// PostgreSQL's numbers of the types of lists.
const BOOL_OID: i32 = 16;
const INT8_OID: i32 = 20;
const INT2_OID: i32 = 21;
const INT4_OID: i32 = 23;
const FLOAT8_OID: i32 = 701;

/// Rows in PostgreSQL's binary COPY format.
pub struct CopyRows {
    bytes: Vec<u8>,
}

/// One value of a row.
pub enum Field<'a> {
    /// smallint, or null
    Small(Option<i16>),
    /// int, or null
    Int(Option<i32>),
    /// bigint, or null
    Big(Option<i64>),
    /// timestamptz, or null
    Time(Option<At>),
    /// int[]
    Ints(&'a [i32]),
    /// bigint[]
    Bigs(&'a [i64]),
    /// boolean[]
    Bools(&'a [bool]),
    /// smallint[]
    Smalls(&'a [i16]),
    /// double precision[]
    Doubles(&'a [f64]),
    /// text
    Text(&'a str),
}

impl CopyRows {
    /// No rows yet.
    pub fn new() -> Self {
        let mut bytes = b"PGCOPY\n\xff\r\n\0".to_vec();
        bytes.extend_from_slice(&[0; 8]);
        CopyRows { bytes }
    }

    /// Adds a row.
    pub fn push(&mut self, fields: &[Field]) {
        self.bytes.extend_from_slice(&(fields.len() as i16).to_be_bytes());
        for field in fields {
            self.field(field);
        }
    }

    fn field(&mut self, field: &Field) {
        match field {
            Field::Small(value) => self.optional(value.map(i16::to_be_bytes)),
            Field::Int(value) => self.optional(value.map(i32::to_be_bytes)),
            Field::Big(value) => self.optional(value.map(i64::to_be_bytes)),
            Field::Time(value) => self.optional(value.map(|at| (at.0 - POSTGRES_EPOCH_MICROS).to_be_bytes())),
            Field::Ints(values) => self.list(INT4_OID, values, |value| value.to_be_bytes()),
            Field::Bigs(values) => self.list(INT8_OID, values, |value| value.to_be_bytes()),
            Field::Smalls(values) => self.list(INT2_OID, values, |value| value.to_be_bytes()),
            Field::Doubles(values) => self.list(FLOAT8_OID, values, |value| value.to_be_bytes()),
            Field::Text(text) => self.value(text.as_bytes()),
            Field::Bools(values) => self.list(BOOL_OID, values, |value| [u8::from(value)]),
        }
    }

    fn optional<const N: usize>(&mut self, value: Option<[u8; N]>) {
        match value {
            Some(bytes) => self.value(&bytes),
            None => self.bytes.extend_from_slice(&(-1i32).to_be_bytes()),
        }
    }

    fn value(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(&(bytes.len() as i32).to_be_bytes());
        self.bytes.extend_from_slice(bytes);
    }

    /// One dimension without nulls; none at all when empty.
    fn list<T: Copy, const N: usize>(&mut self, type_oid: i32, values: &[T], bytes_of: impl Fn(T) -> [u8; N]) {
        let mut words = vec![i32::from(!values.is_empty()), 0, type_oid];
        if !values.is_empty() {
            words.extend([values.len() as i32, 1]);
        }
        let bytes = words.len() * 4 + values.len() * (4 + N);
        self.bytes.reserve(4 + bytes);
        self.bytes.extend_from_slice(&(bytes as i32).to_be_bytes());
        words.iter().for_each(|word| self.bytes.extend_from_slice(&word.to_be_bytes()));
        for value in values {
            self.bytes.extend_from_slice(&(N as i32).to_be_bytes());
            self.bytes.extend_from_slice(&bytes_of(*value));
        }
    }

    /// Sends the rows to a table. `table` and `columns` are names of ours, never anybody's input.
    pub async fn send(mut self, connection: &mut PgConnection, table: &str, columns: &str) -> sqlx::Result<u64> {
        self.bytes.extend_from_slice(&(-1i16).to_be_bytes());
        let sql = format!("COPY {table} ({columns}) FROM STDIN WITH (FORMAT binary)");
        let mut copy = connection.copy_in_raw(&sql).await?;
        copy.send(self.bytes).await?;
        copy.finish().await
    }
}
