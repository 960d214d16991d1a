//! How long figures are kept, as it is set on the command line.

use std::str::FromStr;

use clap::Args;
use hurnix_core::Named;
use hurnix_core::keeping::retention::{Days, Retention, RetentionGroup};

/// More days than anybody has figures of.
const MOST_DAYS: u32 = 4000;

/// How long figures are kept, in days.
#[derive(Debug, Clone, Args)]
pub struct Keep {
    /// Days to keep figures as they were read.
    #[arg(long, env = "HURNIX_KEEP_FINE_DAYS", default_value_t = 7, value_parser = clap::value_parser!(u32).range(1..=400))]
    pub keep_fine_days: u32,
    /// Days to keep their sums over ten minutes, and the entries of server logs.
    #[arg(long, env = "HURNIX_KEEP_TEN_MINUTES_DAYS", default_value_t = 35, value_parser = clap::value_parser!(u32).range(1..=4000))]
    pub keep_ten_minutes_days: u32,
    /// Days to keep their sums over an hour.
    #[arg(long, env = "HURNIX_KEEP_HOUR_DAYS", default_value_t = 400, value_parser = clap::value_parser!(u32).range(1..=4000))]
    pub keep_hour_days: u32,
    /// Days of their own for some figures, such as `statements=14/60/800` (as read, in ten minutes, in hours)
    /// or `log=90`; several with commas between them. Of activity, statements, databases (and checkpoints),
    /// tables (and indexes), measures, log.
    #[arg(long, env = "HURNIX_KEEP_OWN_DAYS", value_delimiter = ',')]
    pub keep_own_days: Vec<OwnDays>,
}

impl Keep {
    /// As the store takes it.
    pub fn retention(&self) -> Retention {
        let days =
            Days { fine: self.keep_fine_days, ten_minutes: self.keep_ten_minutes_days, hour: self.keep_hour_days };
        let own = |retention: Retention, OwnDays(group, days): &OwnDays| retention.with(*group, *days);
        self.keep_own_days.iter().fold(Retention::of_all(days), own)
    }
}

/// Days of its own for a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OwnDays(RetentionGroup, Days);

impl FromStr for OwnDays {
    type Err = String;

    fn from_str(text: &str) -> Result<OwnDays, String> {
        let (name, days) = text.split_once('=').ok_or("write it like statements=14/60/800 or log=90")?;
        let group = RetentionGroup::all()
            .find(|group| group.name() == name.trim())
            .ok_or_else(|| format!("there is no {name:?} to keep; there are {}", RetentionGroup::names()))?;
        let days: Vec<u32> = days.split('/').map(number_of_days).collect::<Result<_, _>>()?;
        let days = match (group, &days[..]) {
            (RetentionGroup::Log, [days]) => Days { fine: *days, ten_minutes: *days, hour: *days },
            (RetentionGroup::Log, _) => {
                return Err("entries of logs have no sums: give one number of days, such as log=90".into());
            }
            (_, [fine, ten_minutes, hour]) => Days { fine: *fine, ten_minutes: *ten_minutes, hour: *hour },
            _ => return Err(format!("give days as read, in ten minutes and in hours, such as {name}=14/60/800")),
        };
        if days != days.in_order() {
            return Err("sums must be kept at least as long as what they sum up: give numbers that do not fall".into());
        }
        Ok(OwnDays(group, days))
    }
}

fn number_of_days(text: &str) -> Result<u32, String> {
    match text.trim().parse() {
        Ok(days) if (1..=MOST_DAYS).contains(&days) => Ok(days),
        _ => Err(format!("{text:?} is no number of days from 1 to {MOST_DAYS}")),
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use hurnix_core::Timestamp;
    use hurnix_core::keeping::detail::Detail;

    use super::*;

    #[derive(Parser)]
    struct Cli {
        #[command(flatten)]
        keep: Keep,
    }

    fn keep(arguments: &[&str]) -> Result<Keep, clap::Error> {
        Cli::try_parse_from([&["hurnix"], arguments].concat()).map(|cli| cli.keep)
    }

    #[test]
    fn some_figures_have_days_of_their_own() {
        let keep = keep(&["--keep-fine-days", "3", "--keep-own-days", "statements=14/60/800,log=90"]).unwrap();
        let days = |group, detail| {
            let now = Timestamp(20_000 * 86_400_000_000);
            20_000 - keep.retention().since(group, detail, now).0 / 86_400_000_000
        };
        assert_eq!(days(RetentionGroup::Activity, Detail::Fine), 3);
        assert_eq!(Detail::ALL.map(|detail| days(RetentionGroup::Statements, detail)), [14, 60, 800, 800]);
        assert_eq!(days(RetentionGroup::Log, RetentionGroup::ENTRIES), 90);
    }

    #[test]
    fn what_cannot_be_kept_so_is_told_with_what_can() {
        for (wrong, told) in [
            ("statements", "statements=14/60/800"),
            ("queries=1/2/3", "activity, statements"),
            ("tables=14", "tables=14/60/800"),
            ("tables=14/7/800", "at least as long"),
            ("tables=14/60/many", "\"many\""),
            ("log=1/2/3", "log=90"),
            ("log=0", "from 1 to 4000"),
        ] {
            let problem = keep(&["--keep-own-days", wrong]).err().unwrap().to_string();
            assert!(problem.contains(told) && problem.contains(wrong), "{problem}");
        }
    }
}
