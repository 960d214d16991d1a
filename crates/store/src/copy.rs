use hurnix_core::At;
use sqlx::PgConnection;

/// Microseconds between the Unix epoch and 2000-01-01, from which PostgreSQL counts.
const POSTGRES_EPOCH_MICROS: i64 = 946_684_800_000_000;

/// Rows in PostgreSQL's binary COPY format.
pub struct CopyRows {
    bytes: Vec<u8>,
}

/// One value of a row.
pub enum Field<'a> {
    /// boolean
    Bool(bool),
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
            Field::Bool(value) => self.value(&[u8::from(*value)]),
            Field::Small(value) => self.optional(value.map(i16::to_be_bytes)),
            Field::Int(value) => self.optional(value.map(i32::to_be_bytes)),
            Field::Big(value) => self.optional(value.map(i64::to_be_bytes)),
            Field::Time(value) => self.optional(value.map(|at| (at.0 - POSTGRES_EPOCH_MICROS).to_be_bytes())),
            Field::Ints(values) => self.ints(values),
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
    fn ints(&mut self, values: &[i32]) {
        const INT4_OID: i32 = 23;
        let dimensions = i32::from(!values.is_empty());
        let mut bytes: Vec<u8> = [dimensions, 0, INT4_OID].iter().flat_map(|word| word.to_be_bytes()).collect();
        if !values.is_empty() {
            bytes.extend([values.len() as i32, 1].iter().flat_map(|word| word.to_be_bytes()));
        }
        for value in values {
            bytes.extend_from_slice(&4i32.to_be_bytes());
            bytes.extend_from_slice(&value.to_be_bytes());
        }
        self.value(&bytes);
    }

    /// Sends the rows to a table. `table` and `columns` are names of ours, never anybody's input.
    pub async fn send(
        mut self,
        connection: &mut PgConnection,
        table: &'static str,
        columns: &str,
    ) -> sqlx::Result<u64> {
        self.bytes.extend_from_slice(&(-1i16).to_be_bytes());
        let sql = format!("COPY {table} ({columns}) FROM STDIN WITH (FORMAT binary)");
        let mut copy = connection.copy_in_raw(&sql).await?;
        copy.send(self.bytes).await?;
        copy.finish().await
    }
}
