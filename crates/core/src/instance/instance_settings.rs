//! How an instance is to be treated: each setting is one line of the list below, and whatever is generic (keeping,
//! the API, lists of instances, forms) is made from it. How an instance is reached is no setting.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// Further databases of an instance.
const MOST_DATABASES: usize = 50;
/// Longest name of a database that servers keep, in bytes.
const LONGEST_DATABASE_NAME: usize = 63;

/// How the value of a setting is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum SettingForm {
    /// Yes or no.
    Flag,
    /// Names, with commas between them.
    Names,
    /// A time zone.
    TimeZone,
    /// A share in per cent.
    Percent,
    /// A number of days.
    Days,
}

/// What is known beside a setting when it is looked at.
pub struct Surroundings<'a> {
    /// Database that the instance is connected to.
    pub database: &'a str,
    /// Whether there is a time zone of that name.
    pub is_time_zone: fn(&str) -> bool,
}

/// What is wrong with a value, and what to give instead.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingFault {
    /// The setting.
    pub name: &'static str,
    /// The value, or the part of it that is wrong.
    pub value: String,
    /// What to give instead.
    pub remedy: String,
}

/// A setting as forms and lists need it.
#[derive(Debug, Clone, Copy)]
pub struct Setting {
    /// Its name.
    pub name: &'static str,
    /// What a form calls it.
    pub label: &'static str,
    /// What it does, or what happens without it.
    pub hint: &'static str,
    /// How its value is given.
    pub form: SettingForm,
    read: fn(&mut InstanceSettings, &str) -> Result<(), &'static str>,
    written: fn(&InstanceSettings) -> String,
    faults: fn(&InstanceSettings, &Surroundings) -> Vec<(String, String)>,
}

/// A value that can be given as text.
trait Value: Sized {
    const FORM: SettingForm;
    fn from_text(text: &str) -> Result<Self, &'static str>;
    fn text(&self) -> String;
}

impl Value for bool {
    const FORM: SettingForm = SettingForm::Flag;

    fn from_text(text: &str) -> Result<Self, &'static str> {
        match text.to_lowercase().as_str() {
            "true" | "yes" => Ok(true),
            "false" | "no" => Ok(false),
            _ => Err("Give true or false."),
        }
    }

    fn text(&self) -> String {
        self.to_string()
    }
}

impl Value for Vec<String> {
    const FORM: SettingForm = SettingForm::Names;

    fn from_text(text: &str) -> Result<Self, &'static str> {
        Ok(text.split(',').map(|name| name.trim().to_owned()).collect())
    }

    fn text(&self) -> String {
        self.join(", ")
    }
}

/// Name of a time zone; empty for UTC.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct ZoneName(pub String);

impl ZoneName {
    /// The name, as clocks know it.
    pub fn name(&self) -> &str {
        if self.0.is_empty() { "UTC" } else { &self.0 }
    }
}

impl Value for ZoneName {
    const FORM: SettingForm = SettingForm::TimeZone;

    fn from_text(text: &str) -> Result<Self, &'static str> {
        Ok(ZoneName(text.trim().to_owned()))
    }

    fn text(&self) -> String {
        self.0.clone()
    }
}

/// A share in per cent; empty for the usual one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Percent(pub String);

impl Percent {
    /// The share, from 0 up; the usual one where none is given.
    pub fn share_or(&self, usual: f64) -> f64 {
        self.number().map_or(usual, |percent| percent / 100.0)
    }

    fn number(&self) -> Option<f64> {
        self.0.trim().trim_end_matches('%').trim_end().parse().ok()
    }
}

impl Value for Percent {
    const FORM: SettingForm = SettingForm::Percent;

    fn from_text(text: &str) -> Result<Self, &'static str> {
        Ok(Percent(text.trim().to_owned()))
    }

    fn text(&self) -> String {
        self.0.clone()
    }
}

/// A number of days; empty for the usual one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Days(pub String);

impl Days {
    /// The number; the usual one where none is given.
    pub fn or(&self, usual: u16) -> u16 {
        self.0.trim().parse().unwrap_or(usual)
    }
}

impl Value for Days {
    const FORM: SettingForm = SettingForm::Days;

    fn from_text(text: &str) -> Result<Self, &'static str> {
        Ok(Days(text.trim().to_owned()))
    }

    fn text(&self) -> String {
        self.0.clone()
    }
}

macro_rules! settings {
    ($($(#[$doc:meta])* $name:ident: $type:ty = $label:literal, $hint:literal, $faults:expr;)+) => {
        /// The settings of an instance.
        #[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(default, deny_unknown_fields)]
        pub struct InstanceSettings {
            $($(#[$doc])* pub $name: $type,)+
        }

        /// All settings, in the order of forms.
        pub const SETTINGS: &[Setting] = &[$(Setting {
            name: stringify!($name),
            label: $label,
            hint: $hint,
            form: <$type as Value>::FORM,
            read: |settings, text| {
                settings.$name = Value::from_text(text)?;
                Ok(())
            },
            written: |settings| settings.$name.text(),
            faults: |settings, around| $faults(&settings.$name, around),
        },)+];
    };
}

settings! {
    /// Databases of the server whose tables and indexes are read, too, over connections of their own.
    more_databases: Vec<String> =
        "More databases", "whose tables and indexes are read, too: names between commas", database_faults;
    /// Whether literals in the server's log may be kept; left out, they are masked.
    keeps_literals: bool = "Literals", "keep those in the server's log (masked otherwise)", no_faults;
    /// Time zone in which its day begins, wherever something is told by day; UTC where it is empty.
    day_zone: ZoneName = "Day begins in", "UTC; else a time zone such as Europe/Lisbon", zone_faults;
    /// From which change on a lasting change is told, in per cent of the level before; 20 where it is empty.
    least_change: Percent =
        "Changes from", "per cent of the level before; empty for 20", change_faults;
    /// Which share of the instance's time a lasting change must move to be told, in per cent; 0.5 where it is empty.
    least_share: Percent =
        "Changes that move", "per cent of the instance's time; empty for 0.5", share_faults;
    /// Days of a whole cycle of the business, which an index must be watched for before it is called unused; 35 where it
    /// is empty.
    cycle_days: Days =
        "Business cycle", "days that an index must go unread; empty for 35, a month end included", cycle_faults;
}

impl InstanceSettings {
    /// Takes a value that is given as text, as lists do; what is wrong with it otherwise.
    pub fn read(&mut self, setting: &Setting, text: &str) -> Result<(), SettingFault> {
        let fault =
            |remedy: &str| SettingFault { name: setting.name, value: text.to_owned(), remedy: remedy.to_owned() };
        (setting.read)(self, text).map_err(fault)
    }

    /// A value as text.
    pub fn written(&self, setting: &Setting) -> String {
        (setting.written)(self)
    }

    /// What is wrong with them.
    pub fn faults(&self, around: &Surroundings) -> Vec<SettingFault> {
        let of = |setting: &'static Setting| {
            let faults = (setting.faults)(self, around);
            faults.into_iter().map(|(value, remedy)| SettingFault { name: setting.name, value, remedy })
        };
        SETTINGS.iter().flat_map(of).collect()
    }
}

fn no_faults(_: &bool, _: &Surroundings) -> Vec<(String, String)> {
    Vec::new()
}

fn change_faults(percent: &Percent, _: &Surroundings) -> Vec<(String, String)> {
    percent_faults(percent, 5.0, 1000.0)
}

fn share_faults(percent: &Percent, _: &Surroundings) -> Vec<(String, String)> {
    percent_faults(percent, 0.05, 50.0)
}

fn percent_faults(percent: &Percent, least: f64, most: f64) -> Vec<(String, String)> {
    let is_right = percent.0.is_empty() || percent.number().is_some_and(|given| (least..=most).contains(&given));
    if is_right {
        Vec::new()
    } else {
        vec![(percent.0.clone(), format!("Give a number from {least} to {most}, or leave it empty."))]
    }
}

fn cycle_faults(days: &Days, _: &Surroundings) -> Vec<(String, String)> {
    /// A week has no month end, and more than a year is more than what is kept.
    const BOUNDS: std::ops::RangeInclusive<u16> = 7..=400;
    let is_right = days.0.is_empty() || days.0.parse().is_ok_and(|days| BOUNDS.contains(&days));
    let remedy = format!("Give whole days from {} to {}, or leave it empty.", BOUNDS.start(), BOUNDS.end());
    if is_right { Vec::new() } else { vec![(days.0.clone(), remedy)] }
}

fn database_faults(databases: &[String], around: &Surroundings) -> Vec<(String, String)> {
    let mut faults = Vec::new();
    if databases.len() > MOST_DATABASES {
        let remedy = format!("Give at most {MOST_DATABASES}: each is read over a connection of its own.");
        faults.push((databases.len().to_string(), remedy));
    }
    for (place, name) in databases.iter().enumerate() {
        let remedy = if name.trim().is_empty() || name.len() > LONGEST_DATABASE_NAME {
            format!("Give names of 1 to {LONGEST_DATABASE_NAME} bytes.")
        } else if name == around.database {
            "Leave out the database that is connected to: it is read anyway.".into()
        } else if databases[..place].contains(name) {
            "Name each database once.".into()
        } else {
            continue;
        };
        faults.push((name.clone(), remedy));
    }
    faults
}

fn zone_faults(zone: &ZoneName, around: &Surroundings) -> Vec<(String, String)> {
    let remedy = "Give the name of a time zone, such as Europe/Lisbon, or leave it empty for UTC.";
    if (around.is_time_zone)(zone.name()) { Vec::new() } else { vec![(zone.0.clone(), remedy.into())] }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn setting(name: &str) -> &'static Setting {
        SETTINGS.iter().find(|setting| setting.name == name).unwrap()
    }

    #[test]
    fn what_is_written_is_read_as_the_same() {
        let settings = InstanceSettings {
            more_databases: vec!["tides".into(), "quay".into()],
            keeps_literals: true,
            ..InstanceSettings::default()
        };
        for given in
            [settings, InstanceSettings { more_databases: vec!["tides".into()], ..InstanceSettings::default() }]
        {
            let mut read = InstanceSettings::default();
            for setting in SETTINGS {
                read.read(setting, &given.written(setting)).unwrap();
            }
            assert_eq!(read, given);
        }
        let fault = InstanceSettings::default().read(setting("keeps_literals"), "perhaps").unwrap_err();
        assert_eq!((fault.name, fault.value.as_str()), ("keeps_literals", "perhaps"));
    }

    #[test]
    fn what_is_no_value_is_told() {
        let around = Surroundings { database: "passage", is_time_zone: |_| true };
        let faults = |names: &[&str]| {
            let more_databases = names.iter().map(|name| (*name).to_owned()).collect();
            InstanceSettings { more_databases, ..InstanceSettings::default() }.faults(&around).len()
        };
        assert_eq!(
            [faults(&["tides"]), faults(&["passage"]), faults(&["tides", "tides"]), faults(&[""])],
            [0, 1, 1, 1]
        );
        let nowhere = Surroundings { is_time_zone: |name| name == "UTC", ..around };
        let zone = |name: &str| {
            InstanceSettings { day_zone: ZoneName(name.into()), ..InstanceSettings::default() }.faults(&nowhere).len()
        };
        assert_eq!([zone(""), zone("Skerry/Fog")], [0, 1]);
        let many: Vec<String> = (0..=MOST_DATABASES).map(|n| format!("d{n}")).collect();
        assert_eq!(faults(&many.iter().map(String::as_str).collect::<Vec<_>>()), 1);
    }

    #[test]
    fn percentages_are_numbers_within_bounds_and_empty_ones_the_usual() {
        let around = Surroundings { database: "passage", is_time_zone: |_| true };
        let faults = |text: &str| {
            let settings = InstanceSettings { least_share: Percent(text.into()), ..InstanceSettings::default() };
            settings.faults(&around).len()
        };
        assert_eq!(["", "0.5", "2 %", "50", "0", "60", "half", "NaN"].map(faults), [0, 0, 0, 0, 1, 1, 1, 1]);
        let cycle = |text: &str| {
            let settings = InstanceSettings { cycle_days: Days(text.into()), ..InstanceSettings::default() };
            settings.faults(&around).len()
        };
        assert_eq!(["", "7", "95", "400", "6", "401", "35.5", "a month"].map(cycle), [0, 0, 0, 0, 1, 1, 1, 1]);
        assert_eq!((Days("95".into()).or(35), Days::default().or(35)), (95, 35));
        assert_eq!(Percent("2 %".into()).share_or(0.5), 0.02);
        assert_eq!(Percent::default().share_or(0.5), 0.5);
    }
}
