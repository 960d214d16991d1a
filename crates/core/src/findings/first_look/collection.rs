use super::Check;
use super::evidence::{Evidence, FiguresAvailability};
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::remedy::Remedy;
use crate::findings::alarm::Trouble;
use crate::named::Named;
use crate::readings::figures::Availability;
use crate::wording::{number, percent, seconds};

/// Share of the readings due that may be missed or refused before it is worth a look.
const MOST_MISSED: f64 = 0.05;
/// So few of them are nothing, whatever their share: a day begins with few readings.
const FEW_MISSED: i64 = 10;

/// What is known of the instance, since when, and what is missing.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let history = &evidence.history;
    if let Some(problem) = &history.problem {
        notes
            .act(
                format!("Nothing is read just now. {problem}"),
                Step::new("Try the connection; the trial names what is in the way.").see(Page::Instances),
            )
            .of(Trouble::Unreachable, "");
    }
    for available in &evidence.availabilities {
        availability(&mut notes, available);
    }
    readings(&mut notes, evidence);
    since(&mut notes, evidence);
    let [fine, ten_minutes, hour] = history.kept_days;
    if fine > 0 {
        notes.fact("Kept for", format!("{fine} days as read, {ten_minutes} days in ten minutes, {hour} days in hours"));
    }
    let kinds =
        evidence.availabilities.iter().filter(|available| available.availability == Availability::Collected).count();
    notes.done(Check::Collection, format!("All that it tells is read: {kinds} kinds of figures."))
}

fn availability(notes: &mut Notes, available: &FiguresAvailability) {
    let name = available.figures.name();
    match available.availability {
        Availability::Collected => {}
        Availability::Waiting => notes.fact(format!("Figures of {name}"), "not read yet"),
        Availability::Overdue => {
            let step =
                Step::new("See what reading costs, and whether the server answers slowly.").see(Page::Collection);
            notes.look(
                format!("Figures of {name} are overdue: {} is not known as it is now.", available.figures.tell()),
                step,
            );
        }
        Availability::Limited | Availability::Absent => {
            for (reason, remedy) in &available.obstacles {
                let step = Step::new("What the server's administrator can do:").run(Remedy::Run(remedy.clone()));
                notes.unknown(reason.clone(), step.see(Page::Collection));
            }
        }
    }
}

fn readings(notes: &mut Notes, evidence: &Evidence) {
    for day in &evidence.history.days {
        let due = day.read + day.refused + day.missed;
        let (read, due) = (number(day.read as f64), number(due as f64));
        let mut told = format!("{read} of {due} readings due, in {} of {} hours", day.hours, day.hours_in_all);
        for (count, what) in [(day.refused, "refused"), (day.missed, "missed"), (day.dropped, "lost")] {
            if count > 0 {
                told += &format!(", {} {what}", number(count as f64));
            }
        }
        notes.dated("Read on the day that began", told, day.at);
    }
    let Some(today) = evidence.history.days.last() else { return };
    let (bad, due) = (today.refused + today.missed + today.dropped, today.read + today.refused + today.missed);
    if bad > FEW_MISSED && bad as f64 > MOST_MISSED * due as f64 && today.read > 0 {
        notes.look(
            format!("{} of the readings due today were not made, refused or lost.", percent(bad as f64 / due as f64)),
            Step::new("Lengthen intervals or raise the budget of this instance.").see(Page::Collection),
        );
    }
}

/// Since when there are figures of Hurnix's own, and since when the server itself has counted.
fn since(notes: &mut Notes, evidence: &Evidence) {
    let history = &evidence.history;
    match (history.first, history.last) {
        (Some(first), Some(last)) => {
            notes.moment("Oldest figures", first);
            notes.moment("Newest figures", last);
            notes.fact("History", seconds(last.seconds_since(first).max(0.0)));
        }
        _ => {
            notes.unknown(
                "Nothing was read yet.",
                Step::new("Wait for the first snapshot, or ask for one now.").see(Page::Collection),
            );
        }
    }
    if let Some(first) = history.log_first {
        notes.moment("The server's log tells since", first);
    }
    let counted = [
        ("Tables have counted since", evidence.tables.as_ref().map(Evidence::counted_since)),
        ("Databases have counted since", evidence.databases.as_ref().map(Evidence::counted_since)),
    ];
    for (what, since) in counted {
        if let Some(since) = since {
            notes.moment(what, since);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{Day, History};
    use super::*;
    use crate::findings::health::Health;
    use crate::readings::figures::Figures;
    use crate::time::Timestamp;

    fn evidence() -> Evidence {
        Evidence {
            history: History { first: Some(Timestamp(0)), last: Some(Timestamp(60_000_000)), ..History::default() },
            availabilities: vec![FiguresAvailability {
                figures: Figures::Activity,
                availability: Availability::Collected,
                obstacles: vec![],
            }],
            ..Evidence::default()
        }
    }

    #[test]
    fn what_a_server_does_not_give_is_no_trouble_and_has_its_remedy() {
        let mut evidence = evidence();
        assert_eq!(check(&evidence).verdict(), Health::Quiet);
        evidence.availabilities.push(FiguresAvailability {
            figures: Figures::Host,
            availability: Availability::Absent,
            obstacles: vec![("The host is not seen.".into(), "CREATE FUNCTION …".into())],
        });
        let finding = check(&evidence);
        assert_eq!(finding.verdict(), Health::NoData);
        assert_eq!(finding.points[0].step.remedy, Some(Remedy::Run("CREATE FUNCTION …".into())));
    }

    #[test]
    fn a_server_that_does_not_answer_comes_first() {
        let mut evidence = evidence();
        evidence.availabilities[0].availability = Availability::Overdue;
        evidence.history.problem = Some("The port is closed.".into());
        let finding = check(&evidence);
        assert_eq!((finding.verdict(), finding.points.len()), (Health::Act, 2));
        assert_eq!(finding.summary, "Nothing is read just now. The port is closed.");
    }

    #[test]
    fn missed_readings_are_looked_at_from_a_twentieth_on() {
        let mut evidence = evidence();
        let mut verdict = |read, missed| {
            evidence.history.days = vec![Day { read, missed, ..Day::default() }];
            check(&evidence).verdict()
        };
        assert_eq!(verdict(960, 40), Health::Quiet);
        assert_eq!(verdict(960, 100), Health::Look);
        assert_eq!(verdict(8, 2), Health::Quiet, "the day has just begun");
    }
}
