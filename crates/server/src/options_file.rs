//! Options of `hurnix serve` from a file in TOML. A key is the name of an option without the dashes before it; what is
//! written there counts where neither the command line nor the environment says otherwise.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::builder::OsStr;
use clap::{ArgAction, Command};
use toml::{Table, Value};

use crate::options::OptionFault;

/// The command whose options a file may hold.
const SERVE: &str = "serve";
/// What belongs on the command line only: where the file is, and what is done once.
const NOT_IN_A_FILE: [&str; 4] = ["config", "check", "help", "version"];

/// The file that the command line or the environment names, if it is `hurnix serve` that is asked for.
pub fn named(command: &Command, arguments: &[OsString]) -> Option<PathBuf> {
    let matches = command.clone().ignore_errors(true).try_get_matches_from(arguments).ok()?;
    matches.subcommand_matches(SERVE)?.try_get_one::<PathBuf>("config").ok()?.cloned()
}

/// The command with what a file says in place of what it takes when nothing is given.
///
/// # Errors
/// The file cannot be read or is no TOML; it names an option that there is not; a value is of the wrong form.
pub fn with_file(command: Command, file: &Path) -> Result<Command, OptionFault> {
    let fault = |says: String| OptionFault(format!("{}: {says}", file.display()));
    let text = std::fs::read_to_string(file).map_err(|error| fault(error.to_string()))?;
    let table: Table = text.parse().map_err(|error: toml::de::Error| fault(error.to_string()))?;
    let serve = command.find_subcommand(SERVE).cloned().unwrap_or_default();
    let mut given = Vec::new();
    for (key, value) in &table {
        let known = serve.get_arguments().find(|option| option.get_long() == Some(key));
        let Some(option) = known.filter(|_| !NOT_IN_A_FILE.contains(&key.as_str())) else {
            return Err(fault(unknown(&serve, key)));
        };
        let values = written(value, option.get_action()).map_err(|form| fault(format!("{key}: give {form}")))?;
        try_alone(&serve, key, &values).map_err(&fault)?;
        given.push((option.get_id().to_string(), values));
    }
    Ok(given.into_iter().fold(command, |command, (id, values)| {
        command.mut_subcommand(SERVE, |serve| {
            serve.mut_arg(id, |option| option.required(false).default_values(values.into_iter().map(OsStr::from)))
        })
    }))
}

/// What there is instead of an option that there is not.
fn unknown(serve: &Command, key: &str) -> String {
    let names =
        serve.get_arguments().filter_map(|option| option.get_long()).filter(|name| !NOT_IN_A_FILE.contains(name));
    let nearest = names.max_by(|a, b| strsim::jaro(a, key).total_cmp(&strsim::jaro(b, key))).unwrap_or_default();
    format!("{key}: there is no such option; the nearest is {nearest}. hurnix serve --help lists all")
}

/// A value as the command line would give it; else the form that it must have.
fn written(value: &Value, action: &ArgAction) -> Result<Vec<String>, &'static str> {
    let one = |value: &Value| match value {
        Value::String(text) => Some(text.clone()),
        Value::Integer(number) => Some(number.to_string()),
        Value::Float(number) => Some(number.to_string()),
        _ => None,
    };
    match (action, value) {
        (ArgAction::SetTrue, Value::Boolean(flag)) => Ok(vec![flag.to_string()]),
        (ArgAction::SetTrue, _) => Err("true or false"),
        (ArgAction::Append, Value::Array(values)) => {
            values.iter().map(one).collect::<Option<_>>().ok_or("a list of texts, such as [\"10.1.0.0/16\"]")
        }
        (_, value) => one(value).map(|text| vec![text]).ok_or("a text or a number"),
    }
}

/// Lets the command line's own check look at one option by itself.
fn try_alone(serve: &Command, key: &str, values: &[String]) -> Result<(), String> {
    let is_flag = serve
        .get_arguments()
        .any(|option| option.get_long() == Some(key) && matches!(option.get_action(), ArgAction::SetTrue));
    if is_flag {
        return Ok(());
    }
    let alone = serve.get_arguments().map(|option| option.get_id().clone()).fold(serve.clone(), |serve, id| {
        // Others are looked at by themselves, or not given at all.
        serve.mut_arg(id, |option| option.required(false))
    });
    let given = values.iter().map(|value| format!("--{key}={value}"));
    match alone.try_get_matches_from(std::iter::once(SERVE.to_owned()).chain(given)) {
        Err(error) if error.kind() != clap::error::ErrorKind::MissingRequiredArgument => {
            let told = error.to_string();
            let first = told.lines().next().unwrap_or_default();
            Err(first.trim_start_matches("error: ").to_owned())
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use clap::{Args, FromArgMatches};

    use super::*;
    use crate::options::{LogFormat, ServeOptions};

    fn command() -> Command {
        Command::new("hurnix").subcommand(ServeOptions::augment_args(Command::new(SERVE)))
    }

    fn read(text: &str, arguments: &[&str]) -> Result<ServeOptions, String> {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("hurnix.toml");
        std::fs::write(&file, text).unwrap();
        let command = with_file(command(), &file).map_err(|fault| fault.to_string())?;
        let arguments = ["hurnix", SERVE].iter().chain(arguments);
        let matches = command.try_get_matches_from(arguments).map_err(|error| error.to_string())?;
        Ok(ServeOptions::from_arg_matches(matches.subcommand_matches(SERVE).unwrap()).unwrap())
    }

    const WHOLE: &str = r#"
        repository = "postgresql:///hurnix"
        listen = "127.0.0.1:9000"
        trusted-proxy = ["10.1.0.0/16", "10.2.0.7"]
        allow-sockets = true
        budget-share = 0.02
        memory-mib = 128
        activity = "2s"
        log-format = "json"
    "#;

    #[test]
    fn what_the_file_says_counts_unless_the_command_line_says_otherwise() {
        let options = read(WHOLE, &["--listen=127.0.0.1:9001"]).unwrap();
        assert_eq!(options.repository, "postgresql:///hurnix");
        assert_eq!(options.listen.port(), 9001);
        assert_eq!(options.trusted_proxy.len(), 2);
        assert!(options.allow_sockets && !options.allow_plain_http);
        assert_eq!((options.intervals.budget_share, options.intervals.memory_mib), (0.02, 128));
        assert_eq!(options.intervals.activity.as_secs(), 2);
        assert_eq!(options.log_format, LogFormat::Json);
        assert_eq!(read("repository = 'a'", &["--repository=b"]).unwrap().repository, "b");
    }

    #[test]
    fn what_is_wrong_is_told_with_file_key_and_remedy() {
        for (text, says) in [
            ("activty = '2s'", "activty: there is no such option; the nearest is activity"),
            ("check = true", "check: there is no such option"),
            ("activity = '10ms'", "it must lie between 1s and 1day"),
            ("allow-sockets = 'yes'", "allow-sockets: give true or false"),
            ("trusted-proxy = '10.1.0.0/16'\n[more]", "more: there is no such option"),
            ("trusted-proxy = [1, [2]]", "trusted-proxy: give a list of texts"),
            ("listen = { port = 1 }", "listen: give a text or a number"),
            ("connections-per-address = 0", "connections-per-address"),
            ("listen = ", "TOML parse error"),
        ] {
            let told = read(text, &["--repository=a"]).unwrap_err();
            assert!(told.contains(says) && told.contains("hurnix.toml: "), "{text}: {told}");
        }
    }

    #[test]
    fn the_file_is_found_on_the_command_line() {
        let arguments = |given: &[&str]| given.iter().map(OsString::from).collect::<Vec<_>>();
        let found = named(&command(), &arguments(&["hurnix", "serve", "--config=a.toml", "--activity=never"]));
        assert_eq!(found, Some("a.toml".into()));
        assert_eq!(named(&command(), &arguments(&["hurnix", "serve"])), None);
        assert_eq!(named(&command(), &arguments(&["hurnix", "key"])), None);
    }
}
