use hurnix_core::findings::robust::SeededRng;

/// A column that statements search by, with the values that are asked for.
#[derive(Debug, Clone, Copy)]
pub struct Searched {
    /// Its name.
    pub name: &'static str,
    /// What stands before the number in its values; nothing where they are numbers.
    pub before: Option<&'static str>,
    /// Its values are numbers below this.
    pub below: usize,
    /// The larger, the more rows have the smallest values.
    pub skew: f64,
}

/// A table that statements are made up for.
#[derive(Debug, Clone, Copy)]
pub struct Told {
    /// Its name, with its schema where that is not `public`.
    pub name: &'static str,
    /// Its key.
    pub key: &'static str,
    /// Its rows, before they are scaled.
    pub rows: usize,
    /// Columns to search by.
    pub columns: &'static [Searched],
    /// A time within a year of 2026.
    pub time: Option<&'static str>,
    /// A number that is summed up.
    pub amount: &'static str,
}

const fn number(name: &'static str, below: usize, skew: f64) -> Searched {
    Searched { name, before: None, below, skew }
}

const fn text(name: &'static str, before: &'static str, below: usize, skew: f64) -> Searched {
    Searched { name, before: Some(before), below, skew }
}

/// The tables.
pub const TABLES: [Told; 8] = [
    Told {
        name: "traveller",
        key: "traveller_id",
        rows: 40_000,
        columns: &[number("city", 400, 2.0), text("email", "t", 40_000, 1.0), number("tier", 5, 3.0)],
        time: Some("joined"),
        amount: "points",
    },
    Told {
        name: "crossing",
        key: "crossing_id",
        rows: 20_000,
        columns: &[number("vessel_id", 90, 1.0), number("harbour_id", 300, 1.5), text("state", "s", 4, 6.0)],
        time: Some("departs"),
        amount: "fare",
    },
    Told {
        name: "passage",
        key: "passage_id",
        rows: 120_000,
        columns: &[number("crossing_id", 20_000, 1.0), number("agent", 900, 2.5), number("channel", 12, 2.0)],
        time: Some("booked"),
        amount: "fare",
    },
    Told {
        name: "vehicle",
        key: "vehicle_id",
        rows: 40_000,
        columns: &[text("plate", "p", 35_000, 1.0), number("passage_id", 120_000, 1.0), text("kind", "k", 6, 2.0)],
        time: None,
        amount: "length",
    },
    Told {
        name: "freight.parcel",
        key: "parcel_id",
        rows: 60_000,
        columns: &[number("sender", 5_000, 1.5), number("crossing_id", 20_000, 1.0), text("state", "s", 5, 5.0)],
        time: Some("created"),
        amount: "weight",
    },
    Told {
        name: "freight.duty",
        key: "duty_id",
        rows: 50_000,
        columns: &[
            number("crew", 1_200, 1.0),
            number("crossing_id", 20_000, 1.0),
            number("role", 60, 1.0),
            number("grade", 20, 1.0),
        ],
        time: Some("started"),
        amount: "hours",
    },
    Told {
        name: "notice",
        key: "notice_id",
        rows: 60_000,
        columns: &[number("kind", 40, 2.5), number("crossing_id", 20_000, 1.0), number("reader", 30_000, 1.0)],
        time: Some("made"),
        amount: "urgency",
    },
    Told {
        name: "metering.reading",
        key: "reading_id",
        rows: 90_000,
        columns: &[number("sensor", 700, 1.0), number("quality", 8, 4.0)],
        time: Some("read_at"),
        amount: "value",
    },
];

/// The statements that make and fill the tables, `scale` times their usual size.
pub fn schema(seed: u64, scale: f64) -> Vec<String> {
    let mut rng = SeededRng::new(seed);
    let mut statements: Vec<String> = [
        "CREATE SCHEMA freight",
        "CREATE SCHEMA metering",
        "CREATE TABLE harbour (harbour_id int PRIMARY KEY, code text, region int)",
        "INSERT INTO harbour SELECT n, 'h' || n, n % 9 FROM generate_series(0, 299) n",
        "CREATE TABLE traveller (traveller_id int PRIMARY KEY, name text, email text, city int, tier int, points int,
            joined timestamptz, note text)",
        "CREATE TABLE crossing (crossing_id int PRIMARY KEY, vessel_id int, harbour_id int REFERENCES harbour, state text,
            fare int, departs timestamptz, gate int)",
        "CREATE TABLE passage (passage_id int PRIMARY KEY, crossing_id int, agent int, channel int, fare int,
            booked timestamptz, paid_at timestamptz, is_held boolean, payload jsonb)",
        "CREATE TABLE vehicle (vehicle_id int PRIMARY KEY, passage_id int REFERENCES passage, plate text, kind text, length int)",
        "CREATE TABLE freight.parcel (parcel_id int PRIMARY KEY, sender int, crossing_id int, state text, weight int,
            labels text[], created timestamptz)",
        "CREATE TABLE freight.duty (duty_id int PRIMARY KEY, crew int, crossing_id int, role int, grade int, hours int,
            started timestamptz)",
        "CREATE TABLE notice (notice_id int PRIMARY KEY, kind int, crossing_id int, reader int, urgency int,
            made timestamptz, sent_at timestamptz, body text)",
        "CREATE TABLE metering.reading (reading_id int, sensor int, quality int, value int, read_at timestamptz)
            PARTITION BY RANGE (read_at)",
        "CREATE TABLE metering.reading_spring PARTITION OF metering.reading FOR VALUES FROM ('2026-01-01Z') TO ('2026-05-01Z')",
        "CREATE TABLE metering.reading_summer PARTITION OF metering.reading FOR VALUES FROM ('2026-05-01Z') TO ('2026-09-01Z')",
        "CREATE TABLE metering.reading_winter PARTITION OF metering.reading FOR VALUES FROM ('2026-09-01Z') TO ('2027-02-01Z')",
    ]
    .map(str::to_owned)
    .to_vec();
    statements.push(format!("SELECT setseed({:.4})", rng.unit()));
    for table in TABLES {
        let rows = (table.rows as f64 * scale) as usize;
        // In which order rows came is not the order of their values, but for times.
        let spread = 0.0005 + rng.unit() * if rng.below(3) == 0 { 0.5 } else { 0.01 };
        let mut columns = vec![table.key.to_owned(), table.amount.to_owned()];
        let mut values = vec!["n".to_owned(), "(random() * 1000)::int".to_owned()];
        for column in table.columns {
            let below = within(column, rows, scale);
            let drawn = match column.name {
                // What follows from another column.
                "grade" => "(n % 60) / 3".to_owned(),
                "role" => "n % 60".to_owned(),
                _ => format!("floor(power(random(), {:.2}) * {below})::int", column.skew),
            };
            columns.push(column.name.to_owned());
            values.push(column.before.map_or(drawn.clone(), |before| format!("'{before}' || {drawn}")));
        }
        if let Some(time) = table.time {
            columns.push(time.to_owned());
            values.push(format!(
                "'2026-01-02Z'::timestamptz + least(greatest(n / {rows}::float8 + (random() - 0.5) * {spread:.4}, 0), 0.98) * interval '350 days'"
            ));
        }
        let own: &[(&str, &str)] = match table.name {
            "traveller" => &[
                ("name", "chr(65 + (random() * 25)::int) || md5(n::text)"),
                ("note", "repeat('n', (random() * 80)::int)"),
            ],
            "crossing" => &[("gate", "(random() * 20)::int")],
            "passage" => &[
                ("paid_at", "CASE WHEN random() < 0.96 THEN '2026-03-01Z'::timestamptz END"),
                ("is_held", "random() < 0.01"),
                ("payload", "jsonb_build_object('berth', (random() * 3000)::int, 'meal', (random() * 4)::int)"),
            ],
            "freight.parcel" => &[("labels", "ARRAY['l' || (random() * 800)::int, 'm' || (random() * 5)::int]")],
            "notice" => &[
                ("sent_at", "CASE WHEN random() < 0.97 THEN '2026-03-01Z'::timestamptz END"),
                ("body", "repeat('ferry ', 30)"),
            ],
            _ => &[],
        };
        for (name, value) in own {
            columns.push((*name).to_owned());
            values.push((*value).to_owned());
        }
        statements.push(format!(
            "INSERT INTO {} ({}) SELECT {} FROM generate_series(0, {}) n",
            table.name,
            columns.join(", "),
            values.join(", "),
            rows - 1
        ));
    }
    for index in [
        "passage_agent ON passage (agent)",
        "crossing_departs ON crossing (departs)",
        "parcel_sender ON freight.parcel (sender)",
    ] {
        // One of three is there already.
        if rng.below(3) == 0 {
            statements.push(format!("CREATE INDEX {index}"));
        }
    }
    statements
}

/// How many values a column has once its table is scaled: those that refer to another table follow it.
pub fn within(column: &Searched, rows: usize, scale: f64) -> usize {
    let scaled = if column.below >= 5_000 { (column.below as f64 * scale) as usize } else { column.below };
    scaled.clamp(1, rows.max(1))
}
