use hurnix_core::Timestamp;
use sqlx::encode::{Encode, IsNull};
use sqlx::error::BoxDynError;
use sqlx::postgres::types::Oid;
use sqlx::postgres::{PgArgumentBuffer, PgTypeInfo};
use sqlx::{AssertSqlSafe, PgConnection, Postgres, Type};

/// Microseconds between the Unix epoch and 2000-01-01, from which PostgreSQL counts.
const POSTGRES_EPOCH_MICROS: i64 = 946_684_800_000_000;
/// PostgreSQL's numbers of the types of lists.
const BOOL_OID: i32 = 16;
const INT8_OID: i32 = 20;
const INT2_OID: i32 = 21;
const INT4_OID: i32 = 23;
const FLOAT8_OID: i32 = 701;

/// Up to so many rows go as one statement.
const FEW_ROWS: usize = 64;

/// Rows in PostgreSQL's binary form, on their way to a table.
///
/// Many are copied, which is the fastest by far. A few go as one INSERT: a COPY is sent in two small parts, and where
/// the driver does not switch that off, the second waits until the server's machine has acknowledged the first, for 40 ms.
pub struct CopyRows {
    bytes: Vec<u8>,
    rows: usize,
    /// PostgreSQL's numbers of the types of the fields.
    types: Vec<u32>,
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
    Time(Option<Timestamp>),
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

impl Field<'_> {
    fn type_oid(&self) -> u32 {
        match self {
            Field::Small(_) => 21,
            Field::Int(_) => 23,
            Field::Big(_) => 20,
            Field::Time(_) => 1184,
            Field::Ints(_) => 1007,
            Field::Bigs(_) => 1016,
            Field::Bools(_) => 1000,
            Field::Smalls(_) => 1005,
            Field::Doubles(_) => 1022,
            Field::Text(_) => 25,
        }
    }
}

impl CopyRows {
    /// No rows yet.
    pub fn new() -> Self {
        let mut bytes = b"PGCOPY\n\xff\r\n\0".to_vec();
        bytes.extend_from_slice(&[0; 8]);
        debug_assert_eq!(bytes.len(), HEAD_BYTES);
        CopyRows { bytes, rows: 0, types: Vec::new() }
    }

    /// Adds a row.
    pub fn push(&mut self, fields: &[Field]) {
        if self.rows == 0 {
            self.types = fields.iter().map(Field::type_oid).collect();
        }
        self.rows += 1;
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

    /// Sends the rows to a table; nothing is sent where there are none. `table` and `columns` are names of ours, never
    /// anybody's input.
    pub async fn send(mut self, connection: &mut PgConnection, table: &str, columns: &str) -> sqlx::Result<()> {
        match self.rows {
            0 => return Ok(()),
            1..=FEW_ROWS => return self.insert(connection, table, columns).await,
            _ => {}
        }
        self.bytes.extend_from_slice(&(-1i16).to_be_bytes());
        let sql = format!("COPY {table} ({columns}) FROM STDIN WITH (FORMAT binary)");
        let mut copy = connection.copy_in_raw(&sql).await?;
        copy.send(self.bytes).await?;
        copy.finish().await?;
        Ok(())
    }

    async fn insert(&self, connection: &mut PgConnection, table: &str, columns: &str) -> sqlx::Result<()> {
        let width = self.types.len();
        let row = |row: usize| {
            let fields: Vec<String> = (1..=width).map(|field| format!("${}", row * width + field)).collect();
            format!("({})", fields.join(", "))
        };
        let rows: Vec<String> = (0..self.rows).map(row).collect();
        let sql = format!("INSERT INTO {table} ({columns}) VALUES {}", rows.join(", "));
        // Of several rows there are too many ways to keep a plan for each.
        let mut insert = sqlx::query(AssertSqlSafe(sql)).persistent(self.rows == 1);
        let mut rest = &self.bytes[HEAD_BYTES..];
        for _ in 0..self.rows {
            rest = &rest[size_of::<i16>()..];
            for type_oid in &self.types {
                let (length, after) = rest.split_at(size_of::<i32>());
                let length = i32::from_be_bytes(length.try_into().unwrap_or_default());
                let value = usize::try_from(length).ok().map(|length| &after[..length]);
                rest = &after[value.map_or(0, <[u8]>::len)..];
                insert = insert.bind(Raw { value, type_oid: *type_oid });
            }
        }
        insert.execute(connection).await?;
        Ok(())
    }
}

/// Bytes of the head of a binary COPY.
const HEAD_BYTES: usize = 19;

/// A value that is in PostgreSQL's binary form already.
struct Raw<'a> {
    value: Option<&'a [u8]>,
    type_oid: u32,
}

impl Type<Postgres> for Raw<'_> {
    fn type_info() -> PgTypeInfo {
        PgTypeInfo::with_oid(Oid(0))
    }
}

impl Encode<'_, Postgres> for Raw<'_> {
    fn encode_by_ref(&self, buffer: &mut PgArgumentBuffer) -> Result<IsNull, BoxDynError> {
        match self.value {
            None => Ok(IsNull::Yes),
            Some(value) => {
                buffer.extend_from_slice(value);
                Ok(IsNull::No)
            }
        }
    }

    fn produces(&self) -> Option<PgTypeInfo> {
        Some(PgTypeInfo::with_oid(Oid(self.type_oid)))
    }
}
