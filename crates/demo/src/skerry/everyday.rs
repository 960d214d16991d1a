//! What a server does all day besides its stories: many tables, and many statements on them, of which few
//! cost much and most cost little.

use hurnix_core::WaitKind;
use hurnix_source::simulated::{Cost, FamilyModel, How, IndexModel, Model, Noise, Shape, TableModel, Touch};

use super::parts::{client, daily, index, table};

/// How much of it there is on a server.
pub(super) struct Everyday<'a> {
    /// What its tables are about: each makes up to as many tables as there are [`ASPECTS`].
    pub topics: &'a [&'a str],
    /// What rows of a topic belong to.
    pub owner: &'a str,
    /// Whether nothing is written, as on a replica.
    pub only_reads: bool,
    pub tables: usize,
    /// Statements, about: what inserts has another that deletes what is old.
    pub families: usize,
    /// Busy sessions that all of it makes together, on average over a week.
    pub load: f64,
    /// Who runs it.
    pub programs: &'a [Program],
}

/// A program, the account that it uses, and where its clients are.
pub(super) struct Program {
    pub account: &'static str,
    pub name: &'static str,
    /// Its clients' addresses, but for their last number.
    pub network: &'static str,
    pub clients: usize,
    pub shape: fn() -> Shape,
}

/// What is kept about a topic. The first is the topic itself; the others belong to it.
const ASPECTS: [&str; 8] = ["", "_line", "_event", "_note", "_change", "_document", "_notice", "_tally"];
/// Share of the load by rank: this much less for each further place.
const RANK_EXPONENT: f64 = 1.15;
/// No statement runs more often than this.
const MOST_PER_SECOND: f64 = 250.0;
/// Rows older than what is kept are deleted in this many calls a second of the hour in which it is done.
const DELETIONS_PER_SECOND: f64 = 0.05;

/// What a statement does to its table.
#[derive(Debug, Clone, Copy)]
enum Deed {
    One,
    OfOwner,
    Insert,
    Move,
    Since,
    Waiting,
    WithTopic,
    Remark,
    IsThere,
    Reserve,
    LatestOfMany,
}

/// Everything that is done, those last that write. Both counts are prime to the steps taken.
const DEEDS: [Deed; 11] = [
    Deed::One,
    Deed::OfOwner,
    Deed::Since,
    Deed::Waiting,
    Deed::WithTopic,
    Deed::IsThere,
    Deed::LatestOfMany,
    Deed::Insert,
    Deed::Move,
    Deed::Remark,
    Deed::Reserve,
];
const READING_DEEDS: usize = 7;

/// Adds it to a server that has its own tables and statements already: their places stay.
pub(super) fn add(model: &mut Model, of: &Everyday) {
    let first = model.tables.len();
    for number in 0..of.tables {
        let made = everyday_table(model.seed, number, of);
        model.tables.push(made);
    }
    let deeds = if of.only_reads { &DEEDS[..READING_DEEDS] } else { &DEEDS };
    let mut made: Vec<(FamilyModel, Option<FamilyModel>)> = Vec::new();
    let mut count = 0;
    // Each table has something done to it before one has a second thing done.
    for number in 0.. {
        if count >= of.families || number >= of.tables * deeds.len() {
            break;
        }
        let (place, round) = (number % of.tables, number / of.tables);
        let deed = deeds[(round * 4 + place * 3) % deeds.len()];
        let family = statement(model, first, place, deed, of, number);
        let deletes = matches!(deed, Deed::Insert).then(|| deletion(model, first + place, of));
        count += 1 + usize::from(deletes.is_some());
        made.push((family, deletes));
    }
    let mut ranks: Vec<usize> = (0..made.len()).collect();
    ranks.sort_by_key(|number| (Noise::of(model.seed, &[101, *number as u64]).unit() * 1e9) as u64);
    let share = |rank: usize| ((rank + 3) as f64).powf(-RANK_EXPONENT);
    let all: f64 = (0..made.len()).map(share).sum();
    for (rank, number) in ranks.into_iter().enumerate() {
        let (family, deletes) = &mut made[number];
        let busy = of.load * share(rank) / all;
        // What would have to run too often takes longer instead.
        family.cost.ms = family.cost.ms.max(busy * 1000.0 / MOST_PER_SECOND);
        let a_second = busy * 1000.0 / family.cost.ms;
        family.per_second = a_second / week_mean(&family.shape);
        if let Some(deletes) = deletes {
            // As many rows go as come.
            let calls = DELETIONS_PER_SECOND * week_mean(&deletes.shape);
            let rows = a_second / calls;
            deletes.per_second = DELETIONS_PER_SECOND;
            deletes.cost = deletion_cost(rows);
            deletes.touches.iter_mut().for_each(|touch| touch.rows = rows);
        }
    }
    model.families.extend(made.into_iter().flat_map(|(family, deletes)| std::iter::once(family).chain(deletes)));
}

/// The mean level of a shape over a week.
fn week_mean(shape: &Shape) -> f64 {
    const WEEK: i64 = 7 * 24 * 60;
    // 2026-11-23 is a Monday, in a week without the end of a month.
    let monday = 20_780 * 24 * 60 - WEEK;
    (monday..monday + WEEK).map(|minute| shape.level(minute)).sum::<f64>() / WEEK as f64
}

fn topic<'a>(of: &Everyday<'a>, place: usize) -> &'a str {
    of.topics[place % of.topics.len()]
}

fn name_of(of: &Everyday, place: usize) -> String {
    format!("{}{}", topic(of, place), ASPECTS[place / of.topics.len() % ASPECTS.len()])
}

/// What a table's rows belong to: those of a topic to a customer, the others to their topic.
fn owner_of(of: &Everyday, place: usize) -> String {
    if place < of.topics.len() { of.owner.into() } else { format!("{}_id", topic(of, place)) }
}

fn everyday_table(seed: u64, place: usize, of: &Everyday) -> TableModel {
    let mut noise = Noise::of(seed, &[103, place as u64]);
    let (name, owner) = (name_of(of, place), owner_of(of, place));
    let (key, primary) = (format!("{name}_id"), format!("{name}_pkey"));
    // From a thousand rows to some millions.
    let rows = 10f64.powf(3.0 + 3.6 * noise.unit()).round();
    let owners = (rows / (4.0 + 40.0 * noise.unit())).max(20.0).round();
    table(
        &name,
        rows,
        60.0 + (90.0 * noise.unit()).round(),
        &[
            (&key, "bigint", -1.0),
            (&owner, "integer", owners),
            ("state", "text", 3.0 + (5.0 * noise.unit()).floor()),
            ("made_at", "timestamp with time zone", -0.95),
            ("amount", "numeric", 900.0),
            ("remark", "text", -0.3),
        ],
        &[(&primary, &[&key])],
    )
}

/// The place of an index of a table, which is made unless it is there.
fn indexed(table: &mut TableModel, keys: &[&str]) -> usize {
    let there = |index: &IndexModel| index.keys.iter().zip(keys).all(|(one, other)| one == other);
    if let Some(place) = table.indexes.iter().position(|index| index.keys.len() == keys.len() && there(index)) {
        return place;
    }
    table.indexes.push(index(&format!("{}_{}", table.name, keys.join("_")), keys, false));
    table.indexes.len() - 1
}

fn statement(model: &mut Model, first: usize, place: usize, deed: Deed, of: &Everyday, number: usize) -> FamilyModel {
    let mut noise = Noise::of(model.seed, &[105, number as u64]);
    let (table, owner) = (&mut model.tables[first + place], owner_of(of, place));
    let (name, topic) = (table.name.clone(), topic(of, place));
    let key = format!("{name}_id");
    let owner = owner.as_str();
    // Lower and upper time of a call in milliseconds, and rows.
    let (text, keys, (least, most), rows): (String, Vec<&str>, (f64, f64), f64) = match deed {
        Deed::One => {
            (format!("SELECT {key}, state, amount, remark FROM {name} WHERE {key} = $1"), vec![&key], (0.05, 0.6), 1.0)
        }
        Deed::OfOwner => (
            format!("SELECT {key}, made_at, amount FROM {name} WHERE {owner} = $1 ORDER BY made_at DESC LIMIT $2"),
            vec![owner, "made_at"],
            (0.2, 4.0),
            12.0,
        ),
        Deed::Insert => (
            format!("INSERT INTO {name} ({owner}, state, made_at, amount, remark) VALUES ($1, $2, $3, $4, $5)"),
            vec![],
            (0.4, 2.5),
            1.0,
        ),
        Deed::Move => {
            (format!("UPDATE {name} SET state = $2 WHERE {key} = $1 AND state <> $2"), vec![&key], (0.5, 3.0), 1.0)
        }
        Deed::Since => (
            format!("SELECT state, count(*), sum(amount) FROM {name} WHERE made_at >= $1 GROUP BY state"),
            vec!["made_at"],
            (20.0, 900.0),
            5.0,
        ),
        Deed::Waiting => (
            format!("SELECT {key}, {owner} FROM {name} WHERE state = $1 AND made_at < $2 ORDER BY made_at LIMIT $3"),
            vec!["state", "made_at"],
            (0.5, 30.0),
            40.0,
        ),
        Deed::WithTopic => (
            format!(
                "SELECT x.{key}, t.state, t.amount FROM {name} x JOIN {topic} t ON t.{topic}_id = x.{owner} WHERE x.{key} = ANY($1)"
            ),
            vec![&key],
            (0.4, 9.0),
            20.0,
        ),
        Deed::Remark => (
            format!("UPDATE {name} SET remark = $3 WHERE {owner} = $1 AND made_at >= $2"),
            vec![owner, "made_at"],
            (0.6, 5.0),
            2.0,
        ),
        Deed::IsThere => (
            format!("SELECT EXISTS (SELECT FROM {name} WHERE {owner} = $1 AND made_at >= $2)"),
            vec![owner, "made_at"],
            (0.05, 0.5),
            1.0,
        ),
        Deed::Reserve => {
            (format!("SELECT {key}, amount FROM {name} WHERE {key} = $1 FOR UPDATE"), vec![&key], (0.3, 3.0), 1.0)
        }
        Deed::LatestOfMany => (
            format!("SELECT {owner}, max(made_at) FROM {name} WHERE {owner} = ANY($1) GROUP BY {owner}"),
            vec![owner, "made_at"],
            (1.0, 40.0),
            25.0,
        ),
    };
    let ms = least * (most / least).powf(noise.unit());
    let by = (!keys.is_empty()).then(|| indexed(table, &keys));
    let plan = by.map_or_else(
        || format!("Insert on {name}  (cost=0.00..0.01 rows=0 width=0)\n  ->  Result"),
        |by| plan(deed, table, by, rows),
    );
    let at = first + place;
    let mut touches: Vec<Touch> = Vec::new();
    touches.extend(by.map(|by| Touch { table: at, how: How::ReadBy(by), rows }));
    match deed {
        Deed::Insert => touches.push(Touch { table: at, how: How::Insert, rows }),
        Deed::Move | Deed::Remark => touches.push(Touch { table: at, how: How::Update, rows }),
        Deed::WithTopic => touches.push(Touch { table: first + place % of.topics.len(), how: How::ReadBy(0), rows }),
        _ => {}
    }
    let program = &of.programs[(noise.unit() * of.programs.len() as f64) as usize];
    let from = format!("{}.{}", program.network, 10 + (noise.unit() * program.clients as f64) as usize);
    FamilyModel {
        text,
        shape: (program.shape)(),
        cost: cost(deed, ms, rows),
        waits: waits(deed, &mut noise),
        touches,
        plan,
        ..client(program.account, program.name, &from)
    }
}

fn cost(deed: Deed, ms: f64, rows: f64) -> Cost {
    let writes = matches!(deed, Deed::Insert | Deed::Move | Deed::Remark);
    let pages = 3.0 + rows * 0.8 + ms * 6.0;
    Cost {
        ms,
        rows,
        hit_pages: pages,
        read_pages: ms * 0.12,
        dirtied_pages: if writes { 0.6 * rows } else { 0.0 },
        temp_pages: 0.0,
        log_bytes: if writes { 260.0 * rows } else { 0.0 },
    }
}

/// What a statement waits for, with the server's names of the events.
fn waits(deed: Deed, noise: &mut Noise) -> Vec<(WaitKind, String, f64)> {
    let mut wait = |kind, event: &str, most: f64| (kind, event.to_owned(), most * (0.3 + 0.7 * noise.unit()));
    let read = wait(WaitKind::StorageRead, "IO:DataFileRead", 0.4);
    match deed {
        Deed::Insert => vec![
            wait(WaitKind::LogWrite, "IO:WALSync", 0.5),
            wait(WaitKind::Latch, "LWLock:WALInsert", 0.08),
            wait(WaitKind::StorageWrite, "IO:DataFileExtend", 0.06),
        ],
        Deed::Move | Deed::Remark => {
            vec![wait(WaitKind::LogWrite, "IO:WALSync", 0.4), wait(WaitKind::Lock, "Lock:transactionid", 0.12), read]
        }
        Deed::Reserve => vec![wait(WaitKind::Lock, "Lock:tuple", 0.3), read],
        Deed::Since => vec![
            read,
            wait(WaitKind::Peer, "IPC:ExecuteGather", 0.2),
            wait(WaitKind::TempSpace, "IO:BufFileWrite", 0.04),
        ],
        Deed::Waiting | Deed::LatestOfMany | Deed::WithTopic => {
            vec![read, wait(WaitKind::Network, "Client:ClientWrite", 0.1)]
        }
        Deed::One | Deed::OfOwner | Deed::IsThere => vec![read],
    }
}

fn plan(deed: Deed, table: &TableModel, by: usize, rows: f64) -> String {
    let (name, index) = (&table.name, &table.indexes[by]);
    let scan = format!(
        "Index Scan using {} on {name}  (cost=0.43..{:.2} rows={rows:.0} width=40)\n  Index Cond: ({} = $1)",
        index.name,
        8.0 + rows * 2.1,
        index.keys[0]
    );
    let below = |head: &str| format!("{head}\n  ->  {}", scan.replace("\n", "\n      "));
    match deed {
        Deed::OfOwner | Deed::Waiting => below("Limit"),
        Deed::Since | Deed::LatestOfMany => below("HashAggregate"),
        Deed::Move | Deed::Remark => below(&format!("Update on {name}")),
        Deed::IsThere => below("Result"),
        Deed::Reserve => below("LockRows"),
        Deed::WithTopic => below("Nested Loop"),
        Deed::One | Deed::Insert => scan,
    }
}

/// What removes old rows of a table, in a nightly hour.
fn deletion(model: &mut Model, at: usize, of: &Everyday) -> FamilyModel {
    let table = &mut model.tables[at];
    let by = indexed(table, &["made_at"]);
    let name = table.name.clone();
    let touches = [How::ReadBy(by), How::Delete].map(|how| Touch { table: at, how, rows: 0.0 });
    let minute = 60 + (Noise::of(model.seed, &[107, at as u64]).unit() * 180.0) as u16;
    FamilyModel {
        text: format!("DELETE FROM {name} WHERE made_at < $1"),
        shape: daily(&[minute], 60),
        waits: super::parts::waits(0.3, 0.2, 0.0),
        touches: touches.into(),
        plan: format!(
            "Delete on {name}\n  ->  Index Scan using {name}_made_at on {name}\n        Index Cond: (made_at < $1)"
        ),
        ..client("skerry_upkeep", "nightly clean-up", &format!("{}.2", of.programs[0].network))
    }
}

fn deletion_cost(rows: f64) -> Cost {
    Cost {
        ms: 2.0 + rows * 0.02,
        rows,
        hit_pages: 4.0 + rows * 2.0,
        read_pages: rows * 0.05,
        dirtied_pages: rows * 0.1,
        temp_pages: 0.0,
        log_bytes: rows * 60.0,
    }
}

#[cfg(test)]
mod tests {
    use hurnix_core::Timestamp;

    use super::super::parts::{office, server, travel};
    use super::*;

    fn made() -> Model {
        let mut model = server(7, Timestamp(0), "quay", 4);
        let desk = Program { account: "skerry_quay", name: "quay desk", network: "10.2.1", clients: 4, shape: office };
        let site = Program { account: "skerry_web", name: "quay site", network: "10.2.2", clients: 9, shape: travel };
        let topics = ["mooring", "crane", "quay_hand"];
        let everyday = Everyday {
            topics: &topics,
            owner: "harbour_id",
            only_reads: false,
            tables: 21,
            families: 90,
            load: 2.5,
            programs: &[desk, site],
        };
        add(&mut model, &everyday);
        model
    }

    #[test]
    fn all_of_it_makes_the_load_asked_for_over_a_week() {
        let model = made();
        let deletes = |family: &&FamilyModel| family.text.starts_with("DELETE");
        let load = |family: &FamilyModel| family.per_second * week_mean(&family.shape) * family.cost.ms / 1000.0;
        let all: f64 = model.families.iter().filter(|family| !deletes(family)).map(load).sum();
        assert!((all - 2.5).abs() < 0.01, "{all}");
        assert!((90..=92).contains(&model.families.len()), "{}", model.families.len());
        // Few cost much, most cost little.
        let mut loads: Vec<f64> = model.families.iter().map(load).collect();
        loads.sort_by(|one, other| other.total_cmp(one));
        assert!(loads[..10].iter().sum::<f64>() > 0.4 * all && loads[60] < 0.01 * all, "{loads:?}");
    }

    #[test]
    fn texts_and_names_are_told_apart_and_no_index_is_there_for_nothing() {
        let model = made();
        let texts: std::collections::HashSet<&str> = model.families.iter().map(|family| family.text.as_str()).collect();
        let names: std::collections::HashSet<&str> = model.tables.iter().map(|table| table.name.as_str()).collect();
        assert_eq!((texts.len(), names.len()), (model.families.len(), 21));
        for (at, table) in model.tables.iter().enumerate() {
            for by in 1..table.indexes.len() {
                let reads = |touch: &Touch| touch.table == at && touch.how == How::ReadBy(by);
                let read = model.families.iter().any(|family| family.touches.iter().any(reads));
                assert!(read, "{} of {}", table.indexes[by].name, table.name);
            }
        }
    }

    #[test]
    fn as_many_rows_go_as_come() {
        let model = made();
        let by_day = |how: How, at: usize| -> f64 {
            let of = |family: &FamilyModel| {
                let rows = family.touches.iter().filter(|touch| touch.how == how && touch.table == at);
                rows.map(|touch| touch.rows).sum::<f64>() * family.per_second * week_mean(&family.shape) * 86_400.0
            };
            model.families.iter().map(of).sum()
        };
        for at in 0..model.tables.len() {
            let (come, go) = (by_day(How::Insert, at), by_day(How::Delete, at));
            assert!((come - go).abs() <= come * 1e-6, "{come} {go}");
        }
    }
}
