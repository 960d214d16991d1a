use hurnix_core::findings::robust::SeededRng;

use super::schema::{Searched, TABLES, Told, within};

/// Statements that differ in their values alone.
#[derive(Debug, Clone)]
pub struct Family {
    /// What kind of statement it is.
    pub form: &'static str,
    /// The statements, each with values of its own.
    pub statements: Vec<String>,
    /// Tables that indexes are tried on.
    pub tables: Vec<&'static str>,
    /// Columns that they are tried on, in pairs too.
    pub columns: Vec<&'static str>,
    /// Further indexes to try, as they are written after `ON`.
    pub further: Vec<String>,
}

/// Statements of each family.
const STATEMENTS: usize = 4;

/// Makes families up.
struct Maker {
    rng: SeededRng,
    scale: f64,
    families: Vec<Family>,
}

/// Families over the tables of a schema of that size.
pub fn families(seed: u64, scale: f64) -> Vec<Family> {
    let mut maker = Maker { rng: SeededRng::new(seed ^ 0xfa51), scale, families: Vec::new() };
    for table in &TABLES {
        maker.of_table(table);
    }
    maker.of_joins();
    maker.of_values();
    maker.of_no_use();
    maker.families
}

impl Maker {
    fn value(&mut self, table: &Told, column: &Searched) -> String {
        let rows = (table.rows as f64 * self.scale) as usize;
        let below = within(column, rows, self.scale);
        let number = (self.rng.unit().powf(column.skew) * below as f64) as usize;
        column.before.map_or(number.to_string(), |before| format!("'{before}{number}'"))
    }

    fn time(&mut self) -> String {
        format!("'2026-01-02Z'::timestamptz + interval '{} hours'", self.rng.below(340 * 24))
    }

    fn add(
        &mut self,
        form: &'static str,
        tables: &[&'static str],
        columns: &[&'static str],
        further: &[&str],
        mut statement: impl FnMut(&mut Maker) -> String,
    ) {
        let statements = (0..STATEMENTS).map(|_| statement(self)).collect();
        let further = further.iter().map(|index| (*index).to_owned()).collect();
        self.families.push(Family { form, statements, tables: tables.to_vec(), columns: columns.to_vec(), further });
    }

    fn of_table(&mut self, table: &'static Told) {
        let names: Vec<&'static str> =
            table.columns.iter().map(|column| column.name).chain(table.time).chain([table.amount]).collect();
        let pick = |maker: &mut Maker| {
            let first = maker.rng.below(table.columns.len());
            let second = (first + 1 + maker.rng.below(table.columns.len() - 1)) % table.columns.len();
            (table.columns[first], table.columns[second])
        };
        let name = table.name;
        let (one, other) = pick(self);
        self.add("one column", &[name], &names, &[], |maker| {
            format!("SELECT * FROM {name} WHERE {} = {}", one.name, maker.value(table, &one))
        });
        self.add("two columns", &[name], &names, &[], |maker| {
            let (first, second) = (maker.value(table, &one), maker.value(table, &other));
            format!("SELECT {} FROM {name} WHERE {} = {first} AND {} = {second}", table.key, one.name, other.name)
        });
        let (one, other) = pick(self);
        self.add("counted", &[name], &names, &[], |maker| {
            format!(
                "SELECT count(*), sum({}) FROM {name} WHERE {} = {}",
                table.amount,
                one.name,
                maker.value(table, &one)
            )
        });
        self.add("list", &[name], &names, &[], |maker| {
            let values: Vec<String> = (0..3).map(|_| maker.value(table, &other)).collect();
            format!(
                "SELECT {}, {} FROM {name} WHERE {} IN ({})",
                table.key,
                table.amount,
                other.name,
                values.join(", ")
            )
        });
        if let Some(time) = table.time {
            self.add("column and range", &[name], &names, &[], |maker| {
                let (value, from, days) = (maker.value(table, &one), maker.time(), 1 + maker.rng.below(20));
                format!(
                    "SELECT * FROM {name} WHERE {} = {value} AND {time} >= {from} AND {time} < {from} + interval '{days} days'",
                    one.name
                )
            });
            self.add("newest of one", &[name], &names, &[], |maker| {
                let value = maker.value(table, &one);
                format!("SELECT * FROM {name} WHERE {} = {value} ORDER BY {time} DESC LIMIT 10", one.name)
            });
        }
    }

    fn of_joins(&mut self) {
        let of = |name: &str| TABLES.iter().find(|table| table.name == name).copied().unwrap_or(TABLES[0]);
        let (crossing, passage, parcel, traveller) =
            (of("crossing"), of("passage"), of("freight.parcel"), of("traveller"));
        self.add("join", &["passage", "crossing"], &["crossing_id", "vessel_id", "agent", "departs"], &[], |maker| {
            let (vessel, from) = (maker.value(&crossing, &crossing.columns[0]), maker.time());
            format!(
                "SELECT p.passage_id, p.fare FROM crossing c JOIN passage p ON p.crossing_id = c.crossing_id
                 WHERE c.vessel_id = {vessel} AND c.departs BETWEEN {from} AND {from} + interval '3 days'"
            )
        });
        self.add(
            "join of three",
            &["vehicle", "passage", "crossing"],
            &["passage_id", "crossing_id", "agent", "kind"],
            &[],
            |maker| {
                let crossing_id = maker.value(&passage, &passage.columns[0]);
                format!(
                    "SELECT v.plate, p.fare, c.departs FROM passage p JOIN vehicle v ON v.passage_id = p.passage_id
                 JOIN crossing c USING (crossing_id) WHERE p.crossing_id = {crossing_id}"
                )
            },
        );
        self.add("exists", &["freight.parcel", "crossing"], &["crossing_id", "sender", "harbour_id"], &[], |maker| {
            let harbour = maker.value(&crossing, &crossing.columns[1]);
            format!(
                "SELECT c.crossing_id FROM crossing c WHERE c.harbour_id = {harbour}
                 AND EXISTS (SELECT 1 FROM freight.parcel f WHERE f.crossing_id = c.crossing_id AND f.weight > 500)"
            )
        });
        self.add(
            "in a query",
            &["freight.duty", "crossing"],
            &["crossing_id", "vessel_id", "crew", "departs"],
            &[],
            |maker| {
                let from = maker.time();
                format!(
                    "SELECT sum(hours) FROM freight.duty WHERE crossing_id IN
                 (SELECT crossing_id FROM crossing WHERE departs >= {from} AND departs < {from} + interval '4 hours')"
                )
            },
        );
        self.add("outer join", &["passage", "vehicle"], &["passage_id", "agent", "crossing_id"], &[], |maker| {
            let crossing_id = maker.value(&passage, &passage.columns[0]);
            format!(
                "SELECT p.passage_id, v.plate FROM passage p LEFT JOIN vehicle v ON v.passage_id = p.passage_id
                 WHERE p.crossing_id = {crossing_id}"
            )
        });
        self.add("twice the same table", &["passage"], &["crossing_id", "agent", "channel"], &[], |maker| {
            let agent = maker.rng.below((20_000.0 * maker.scale) as usize);
            format!(
                "SELECT a.passage_id, b.passage_id FROM passage a JOIN passage b ON b.crossing_id = a.crossing_id
                 AND b.passage_id > a.passage_id WHERE a.crossing_id = {agent}"
            )
        });
        self.add("for each row", &["freight.parcel"], &["crossing_id", "sender", "weight"], &[], |maker| {
            let from = maker.time();
            format!(
                "SELECT crossing_id, (SELECT count(*) FROM freight.parcel f WHERE f.crossing_id = c.crossing_id)
                 FROM crossing c WHERE departs >= {from} AND departs < {from} + interval '1 day'"
            )
        });
        self.add("named query", &["passage"], &["crossing_id", "agent", "booked"], &[], |maker| {
            let (agent, from) = (maker.value(&passage, &passage.columns[1]), maker.time());
            format!(
                "WITH sold AS (SELECT crossing_id, fare FROM passage WHERE agent = {agent} AND booked >= {from}
                 AND booked < {from} + interval '10 days') SELECT s.fare, c.fare FROM sold s JOIN crossing c USING (crossing_id)"
            )
        });
        self.add("update", &["passage"], &["crossing_id", "agent", "channel"], &[], |maker| {
            let (crossing_id, agent) =
                (maker.value(&passage, &passage.columns[0]), maker.value(&passage, &passage.columns[1]));
            format!("UPDATE passage SET fare = fare + 1 WHERE crossing_id = {crossing_id} AND agent = {agent}")
        });
        self.add("delete of a parent", &["vehicle"], &["passage_id", "kind"], &[], |maker| {
            let one = maker.rng.below((120_000.0 * maker.scale) as usize);
            format!("DELETE FROM passage WHERE passage_id = {one} AND NOT EXISTS (SELECT 1 FROM vehicle v WHERE v.passage_id = passage.passage_id)")
        });
        self.add("sender by name", &["freight.parcel"], &["sender", "created", "state"], &[], |maker| {
            let sender = maker.value(&parcel, &parcel.columns[0]);
            format!("SELECT max(created) FROM freight.parcel WHERE sender = {sender}")
        });
        self.add("grouped", &["traveller"], &["city", "tier", "joined"], &[], |maker| {
            let city = maker.value(&traveller, &traveller.columns[0]);
            format!("SELECT tier, count(*) FROM traveller WHERE city = {city} GROUP BY tier")
        });
    }

    fn of_values(&mut self) {
        self.add(
            "unpaid",
            &["passage"],
            &["agent", "channel", "paid_at"],
            &["passage (booked) WHERE paid_at IS NULL", "passage (paid_at, agent)"],
            |maker| {
                let agent = maker.rng.below(60);
                format!("SELECT passage_id, fare FROM passage WHERE paid_at IS NULL AND agent = {agent}")
            },
        );
        self.add(
            "not sent",
            &["notice"],
            &["sent_at", "kind", "made"],
            &["notice (made) WHERE sent_at IS NULL"],
            |_| "SELECT notice_id FROM notice WHERE sent_at IS NULL ORDER BY made LIMIT 20".to_owned(),
        );
        self.add("held", &["passage"], &["is_held", "channel"], &["passage (channel) WHERE is_held"], |_| {
            "SELECT passage_id FROM passage WHERE is_held".to_owned()
        });
        self.add("expression", &["traveller"], &["email", "city"], &["traveller (lower(email))"], |maker| {
            format!("SELECT traveller_id FROM traveller WHERE lower(email) = 't{}'", maker.rng.below(40_000))
        });
        self.add("json holds", &["passage"], &["agent"], &["passage USING gin (payload)"], |maker| {
            format!("SELECT passage_id FROM passage WHERE payload @> '{{\"berth\": {}}}'", maker.rng.below(3000))
        });
        self.add("json value", &["passage"], &["agent"], &["passage ((payload ->> 'berth'))"], |maker| {
            format!("SELECT passage_id FROM passage WHERE payload ->> 'berth' = '{}'", maker.rng.below(3000))
        });
        self.add("array holds", &["freight.parcel"], &["sender"], &["freight.parcel USING gin (labels)"], |maker| {
            format!("SELECT parcel_id FROM freight.parcel WHERE labels @> ARRAY['l{}']", maker.rng.below(800))
        });
        self.add("beginning", &["traveller"], &["name"], &["traveller (name text_pattern_ops)"], |maker| {
            let letter = char::from(b'A' + maker.rng.below(25) as u8);
            format!("SELECT traveller_id FROM traveller WHERE name LIKE '{letter}{:x}%'", maker.rng.below(256))
        });
        self.add("either column", &["vehicle"], &["plate", "passage_id"], &[], |maker| {
            let (plate, passage) = (maker.rng.below(35_000), maker.rng.below(120_000));
            format!("SELECT vehicle_id FROM vehicle WHERE plate = 'p{plate}' OR passage_id = {passage}")
        });
        self.add("first rows", &["notice"], &["made", "urgency", "kind"], &[], |maker| {
            format!("SELECT * FROM notice ORDER BY made DESC LIMIT {}", 10 + maker.rng.below(5))
        });
        self.add("dependent columns", &["freight.duty"], &["role", "grade", "crew", "hours"], &[], |maker| {
            let role = maker.rng.below(60);
            format!("SELECT duty_id FROM freight.duty WHERE role = {role} AND grade = {}", role / 3)
        });
    }

    /// Statements that no index helps.
    fn of_no_use(&mut self) {
        self.add("by its key", &["passage"], &["crossing_id", "agent"], &[], |maker| {
            format!("SELECT * FROM passage WHERE passage_id = {}", maker.rng.below((120_000.0 * maker.scale) as usize))
        });
        self.add("small table", &["harbour"], &["code", "region"], &[], |maker| {
            format!("SELECT * FROM harbour WHERE region = {}", maker.rng.below(9))
        });
        self.add("most rows", &["passage"], &["booked", "channel"], &[], |maker| {
            format!("SELECT sum(fare) FROM passage WHERE booked > '2026-0{}-01Z'", 3 + maker.rng.below(2))
        });
        self.add("common value", &["crossing"], &["state", "gate"], &[], |_| {
            "SELECT count(*), sum(fare + gate) FROM crossing WHERE state = 's0'".to_owned()
        });
        self.add("everything", &["freight.parcel"], &["state", "weight"], &[], |_| {
            "SELECT state, avg(weight) FROM freight.parcel GROUP BY state".to_owned()
        });
        self.add("unlike", &["passage"], &["channel", "agent"], &[], |maker| {
            format!("SELECT count(*) FROM passage WHERE channel <> {}", maker.rng.below(12))
        });
    }
}
