/// What somebody wants to know: a statement with one number, and the number below which it lies.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Enquiry {
    pub(crate) sql: &'static str,
    pub(crate) below: usize,
}

const fn ask(sql: &'static str, below: usize) -> Enquiry {
    Enquiry { sql, below }
}

/// Asked at the booking site, by travellers.
pub(crate) const OF_TRAVELLERS: &[Enquiry] = &[
    ask("SELECT name, code FROM harbour WHERE harbour_id = $1", 24),
    ask(
        "SELECT crossing_id, departs_at FROM crossing WHERE from_harbour_id = $1 AND departs_at > now() ORDER BY departs_at LIMIT 10",
        24,
    ),
    ask(
        "SELECT traveller_kind, min(fare), max(fare) FROM fare_rule WHERE from_harbour_id = $1 GROUP BY traveller_kind",
        24,
    ),
    ask(
        "SELECT p.passage_id, p.fare, l.seat, l.state FROM passage p JOIN passage_leg l USING (passage_id) WHERE p.traveller_id = $1",
        60_000,
    ),
    ask(
        "SELECT count(*) FILTER (WHERE boarded_at IS NOT NULL) AS boarded FROM passage_leg WHERE passage_id = $1",
        200_000,
    ),
    ask(
        "SELECT t.name, h.name AS home FROM traveller t JOIN harbour h ON h.harbour_id = t.home_harbour_id WHERE t.traveller_id = $1",
        60_000,
    ),
    ask("SELECT message, changed_at FROM pier_board WHERE harbour_id = $1", 24),
    ask("SELECT channel, count(*), sum(fare) FROM passage WHERE traveller_id = $1 GROUP BY channel", 60_000),
    ask("UPDATE traveller SET home_harbour_id = home_harbour_id WHERE traveller_id = $1", 60_000),
];

/// Asked by crews, about their vessel and its decks.
pub(crate) const OF_CREWS: &[Enquiry] = &[
    ask("SELECT v.name, d.code, d.metres FROM vessel v JOIN deck d USING (vessel_id) WHERE v.vessel_id = $1", 18),
    ask(
        "SELECT d.code, sum(s.free_metres) FROM vehicle_slot s JOIN deck d USING (deck_id) WHERE s.crossing_id = $1 GROUP BY d.code",
        6000,
    ),
    ask(
        "SELECT c.crossing_id, v.name, v.deck_metres FROM crossing c JOIN vessel v USING (vessel_id) WHERE c.crossing_id = $1",
        6000,
    ),
    ask("SELECT state, count(*) FROM crossing WHERE vessel_id = $1 GROUP BY state", 18),
    ask("SELECT gate, scanned_at FROM gate_scan WHERE passage_leg_id = $1 ORDER BY scanned_at DESC LIMIT 3", 600_000),
];

/// Asked by harbours, about tides, berths and who lives where.
pub(crate) const OF_HARBOURS: &[Enquiry] = &[
    ask(
        "SELECT avg(level_cm), min(level_cm), max(level_cm) FROM tide_reading WHERE harbour_id = $1 AND read_at > now() - make_interval(hours => 6)",
        24,
    ),
    ask("SELECT sum(dues) FROM berth_call WHERE harbour_id = $1", 24),
    ask(
        "SELECT vessel_id, count(*) FROM berth_call WHERE berthed_at > now() - make_interval(days => $1) GROUP BY vessel_id",
        30,
    ),
    ask(
        "SELECT home_harbour_id, count(*) FROM traveller WHERE traveller_id < $1 GROUP BY home_harbour_id ORDER BY 2 DESC LIMIT 5",
        60_000,
    ),
];
