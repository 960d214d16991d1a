use hurnix_source::simulated::{Cost, FamilyModel, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{at_times, client, office, reads, server, table, waits};

/// The rehearsal copy: idle unless somebody tries something.
pub(super) fn model(plot: &Plot) -> Model {
    let mut model = server(109, plot.began_at(), "lab", 2);
    model.tables = vec![table(
        "passage_leg",
        900_000.0,
        96.0,
        &[("passage_leg_id", "bigint", -1.0), ("crossing_id", "integer", 6_000.0), ("state", "text", 5.0)],
        &[("passage_leg_pkey", &["passage_leg_id"]), ("passage_leg_crossing", &["crossing_id"])],
    )];
    model.connections.kept = 3;
    model.transactions_per_second = 1.0;
    model.families = vec![FamilyModel {
        text: "SELECT passage_leg_id, seat FROM passage_leg WHERE crossing_id = $1 AND state = $2".into(),
        shape: at_times(&[1, 3], &[14 * 60], 90),
        per_second: 20.0,
        cost: Cost { ms: 2.6, rows: 40.0, hit_pages: 44.0, read_pages: 1.0, ..Cost::default() },
        waits: waits(0.1, 0.0, 0.0),
        touches: vec![reads(0, 1, 40.0)],
        plan: "Index Scan using passage_leg_crossing on passage_leg  (cost=0.42..118.00 rows=40 width=16)".into(),
        ..client("skerry_lab", "rehearsal", "10.9.1.2")
    }];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &["trial", "sample_set", "comparison"],
            owner: "vessel_id",
            only_reads: false,
            tables: 19,
            families: 42,
            load: 0.2,
            programs: &[
                Program { account: "skerry_lab", name: "rehearsal", network: "10.9.11", clients: 2, shape: office },
                Program {
                    account: "skerry_lab",
                    name: "sample loader",
                    network: "10.9.12",
                    clients: 2,
                    shape: Shape::steady,
                },
                Program {
                    account: "skerry_office",
                    name: "trial report",
                    network: "10.9.13",
                    clients: 1,
                    shape: office,
                },
            ],
        },
    );
    model
}
