use hurnix_core::Timestamp;
use hurnix_core::readings::catalog::{Catalog, Column, ColumnStatistics, Index, IndexKey, PlannerCosts, Table};
use hurnix_core::readings::inventory::{Account, Contents, Database, Inventory, PasswordKept, Tablespace};

use super::counted::Server;
use super::model::{Happening, IndexModel};
use super::standing::PAGE_BYTES;
use crate::Setting;

/// The server's numbers of tables; those of a table's indexes follow its own.
const FIRST_TABLE: u32 = 16_400;
const NUMBERS_OF_TABLE: u32 = 100;

/// The number of a table.
pub fn table_oid(position: usize) -> u32 {
    FIRST_TABLE + position as u32 * NUMBERS_OF_TABLE
}

/// The number of one of its indexes.
pub fn index_oid(table: usize, position: usize) -> u32 {
    table_oid(table) + 1 + position as u32
}

/// The number of a database.
pub fn database_oid(position: usize) -> u32 {
    16_384 + position as u32
}

impl Server {
    /// The indexes of a table at a moment.
    pub fn indexes(&self, table: usize, at: Timestamp) -> Vec<&IndexModel> {
        let made = self.model.events.iter().filter_map(|event| match &event.what {
            Happening::IndexMade { table: of, index } if *of == table && event.goes_on(at) => Some(index),
            _ => None,
        });
        self.model.tables[table].indexes.iter().chain(made).collect()
    }

    /// Tables, columns and indexes at a moment.
    pub fn catalog(&self, at: Timestamp) -> Catalog {
        let table = |position: usize| {
            let (model, state) = (&self.model.tables[position], &self.tables()[position]);
            let size_bytes = state.room * model.row_bytes;
            Table {
                oid: table_oid(position),
                schema: "public".into(),
                name: model.name.clone(),
                rows: Some(state.live.round()),
                pages: (size_bytes / PAGE_BYTES).ceil() as i64,
                size_bytes: size_bytes as i64,
                columns: model
                    .columns
                    .iter()
                    .map(|(name, type_name, distinct)| column(name, type_name, *distinct))
                    .collect(),
                indexes: self
                    .indexes(position, at)
                    .into_iter()
                    .enumerate()
                    .map(|(number, model)| index(index_oid(position, number), model, state.room))
                    .collect(),
                foreign_keys: Vec::new(),
                part_of: None,
                is_partitioned: false,
                partition_keys: Vec::new(),
            }
        };
        Catalog {
            at,
            database: self.model.databases[0].clone(),
            tables: (0..self.model.tables.len()).map(table).collect(),
            costs: PlannerCosts::default(),
            extensions: Vec::new(),
            search_paths: Vec::new(),
        }
    }

    /// Databases and accounts at a moment. Accounts of programs show a password; nobody tells who may sign in
    /// from where.
    pub fn inventory(&self, at: Timestamp, accounts: &[String]) -> Inventory {
        let owner = "postgres";
        let database = |(position, name): (usize, &String)| Database {
            oid: database_oid(position),
            name: name.clone(),
            owner: owner.into(),
            encoding: "UTF8".into(),
            collation: "C.UTF-8".into(),
            character_type: "C.UTF-8".into(),
            tablespace: "pg_default".into(),
            allows_connections: true,
            ..Database::default()
        };
        let account = |name: &str| Account {
            name: name.into(),
            may_sign_in: true,
            is_superuser: name == owner,
            password: Some(PasswordKept::Scram),
            ..Account::default()
        };
        let tables = self.model.tables.len() as i64;
        let indexes: usize = (0..self.model.tables.len()).map(|table| self.indexes(table, at).len()).sum();
        Inventory {
            at,
            databases: self.model.databases.iter().enumerate().map(database).collect(),
            tablespaces: vec![Tablespace { name: "pg_default".into(), owner: owner.into(), location: String::new() }],
            accounts: std::iter::once(owner).chain(accounts.iter().map(String::as_str)).map(account).collect(),
            contents: Contents { schemas: 1, files: tables + indexes as i64, ..Contents::default() },
            ..Inventory::default()
        }
    }

    /// Settings at a moment.
    pub fn settings(&self, at: Timestamp) -> Vec<Setting> {
        let mut settings = self.model.settings.clone();
        for event in self.model.events.iter().filter(|event| event.goes_on(at)) {
            if let Happening::Setting { name, value } = &event.what
                && let Some(setting) = settings.iter_mut().find(|setting| setting.name == *name)
            {
                setting.value = Some(value.clone());
            }
        }
        settings
    }
}

fn column(name: &str, type_name: &str, distinct: f64) -> Column {
    let width_bytes = match type_name {
        "text" | "jsonb" => 24.0,
        "boolean" => 1.0,
        "integer" | "date" => 4.0,
        _ => 8.0,
    };
    let statistics = ColumnStatistics { distinct, width_bytes, ..ColumnStatistics::default() };
    Column { name: name.into(), type_name: type_name.into(), statistics: Some(statistics) }
}

fn index(oid: u32, model: &IndexModel, rows: f64) -> Index {
    Index {
        oid,
        name: model.name.clone(),
        method: "btree".into(),
        unique: model.unique,
        valid: true,
        constraint: model.constraint,
        deferrable: false,
        nulls_equal: false,
        replica_identity: false,
        part_of: None,
        keys: model.keys.iter().map(|key| IndexKey::Column(key.clone())).collect(),
        order: String::new(),
        plain: true,
        carried: Vec::new(),
        condition: None,
        size_bytes: (rows * model.entry_bytes) as i64,
        rows: Some(rows.round()),
        fill_factor: None,
    }
}
