//! The command line of Hurnix.

use std::ffi::OsString;
use std::process::ExitCode;

use anyhow::{Context, Result};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use hurnix_server::{
    DemoHome, DemoOptions, ExportOptions, ImportOptions, LOG, LogFormat, OptionFault, ReportOptions, ResetOptions,
    RotateOptions, ServeOptions, SqlAccountOptions, begin_log, options_file, with_options_file,
};
use nix::sys::prctl;
use nix::sys::resource::{Resource, setrlimit};

/// Watches production databases, says where their time goes and what changed, and gives advice that
/// it holds itself to.
#[derive(Debug, Parser)]
#[command(version)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run Hurnix: collector, API and pages.
    Serve(Box<ServeOptions>),
    /// Run Hurnix on the made-up ferry company Skerry Line.
    Demo {
        #[command(subcommand)]
        command: DemoCommand,
    },
    /// Write what is kept of an instance to a file, as a bundle.
    Export(ExportOptions),
    /// Bring a bundle in.
    Import(ImportOptions),
    /// Write a report on an instance.
    Report(ReportOptions),
    /// Manage accounts when nobody can sign in any more.
    Account {
        #[command(subcommand)]
        command: AccountCommand,
    },
    /// Manage the key that seals the passwords of watched servers.
    Key {
        #[command(subcommand)]
        command: KeyCommand,
    },
    /// Make a role of the repository's server that reads its views with any SQL client.
    SqlAccount(SqlAccountOptions),
    /// Print the OpenAPI document of the API.
    Openapi,
    /// Print the JSON Schema of reports.
    ReportSchema,
    /// Print the JSON Schema of the lines of a bundle.
    BundleSchema,
}

#[derive(Debug, Subcommand)]
enum AccountCommand {
    /// Give an account a one-time password, and let it try at once.
    Reset(ResetOptions),
}

#[derive(Debug, Subcommand)]
enum KeyCommand {
    /// Make a key in place of one that is lost for good, and forget the passwords that only that one opened.
    Renew(RotateOptions),
    /// Make a new key, and seal everything anew with it; Hurnix may run meanwhile.
    Rotate(RotateOptions),
}

#[derive(Debug, Subcommand)]
enum DemoCommand {
    /// Start repository, watched server, traffic and Hurnix; Ctrl-C stops all of it.
    Up(DemoOptions),
    /// Serve figures of this host and a made-up power meter, as an exporter does.
    Meter {
        /// Address to listen on.
        #[arg(long, default_value = "127.0.0.1:9470")]
        listen: std::net::SocketAddr,
    },
    /// Play stories on the running demo, several at a time if you like; `list` says which there are.
    Story {
        /// Their names, or `list`.
        #[arg(required = true)]
        names: Vec<String>,
        #[command(flatten)]
        home: DemoHome,
    },
}

/// Gives memory back that was needed for a while: the one of the C library keeps it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Memory holds passwords: a process that dies leaves none of it behind.
fn leave_no_dump() -> nix::Result<()> {
    prctl::set_dumpable(false)?;
    setrlimit(Resource::RLIMIT_CORE, 0, 0)
}

/// The options are wrong, as the parser of the command line ends too.
const WRONG_OPTIONS: u8 = 2;
/// Something else went wrong.
const FAILED: u8 = 1;

/// What is asked for, with what a file of options says.
fn parsed() -> Result<Cli, OptionFault> {
    let arguments: Vec<OsString> = std::env::args_os().collect();
    let mut command = Cli::command();
    if let Some(file) = options_file(&command, &arguments) {
        command = with_options_file(command, &file)?;
    }
    let matches = command.get_matches_from(arguments);
    Ok(Cli::from_arg_matches(&matches).unwrap_or_else(|error| error.exit()))
}

fn begin_log_of(command: &Command) -> Result<(), OptionFault> {
    match command {
        Command::Serve(options) => begin_log(&options.log, options.log_format),
        _ => begin_log(&std::env::var("HURNIX_LOG").unwrap_or_else(|_| LOG.into()), LogFormat::Text),
    }
}

#[tokio::main]
async fn main() -> ExitCode {
    let done = async {
        let Cli { command } = parsed()?;
        begin_log_of(&command)?;
        leave_no_dump().context("forbidding dumps of memory")?;
        run(command).await
    };
    match done.await {
        Ok(code) => code,
        Err(error) => {
            eprintln!("Error: {error:#}");
            ExitCode::from(if error.is::<OptionFault>() { WRONG_OPTIONS } else { FAILED })
        }
    }
}

async fn run(command: Command) -> Result<ExitCode> {
    let done = match command {
        Command::Serve(options) => hurnix_server::serve(*options).await,
        Command::Demo { command: DemoCommand::Up(options) } => hurnix_server::demo_up(options).await,
        Command::Demo { command: DemoCommand::Meter { listen } } => {
            let (address, serving) = hurnix_demo::serve_meter(listen).await?;
            println!("The meter is at http://{address}/metrics");
            serving.await
        }
        Command::Demo { command: DemoCommand::Story { names, home } } => hurnix_server::play(&home, &names),
        Command::Account { command: AccountCommand::Reset(options) } => hurnix_server::reset_account(options).await,
        Command::Key { command: KeyCommand::Rotate(options) } => hurnix_server::rotate_key(options).await,
        Command::Key { command: KeyCommand::Renew(options) } => hurnix_server::renew_key(options).await,
        Command::SqlAccount(options) => hurnix_server::make_sql_account(options).await,
        Command::Export(options) => hurnix_server::export_file(options).await,
        Command::Import(options) => hurnix_server::import_file(options).await,
        Command::Report(options) => return hurnix_server::write_report(options).await,
        Command::ReportSchema => {
            println!("{}", serde_json::to_string_pretty(&hurnix_server::report_schema())?);
            Ok(())
        }
        Command::BundleSchema => {
            println!("{}", serde_json::to_string_pretty(&hurnix_source::bundle::schema())?);
            Ok(())
        }
        Command::Openapi => {
            println!("{}", hurnix_server::api_document().to_pretty_json()?);
            Ok(())
        }
    };
    done.map(|()| ExitCode::SUCCESS)
}
