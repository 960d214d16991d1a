//! Everything that is read of a server, on a real one of every version that is watched: each is started once and
//! taken through all checks.

mod access;
mod acts;
mod changes;
mod families;
mod figures;
mod indexes;
mod log;
mod now;
mod plans;
mod replicas;
mod rules;
mod servers;
mod totals;

use self::servers::Watched;
use anyhow::{Context, Result};

macro_rules! checked {
    ($($version:literal $name:ident),+) => {$(
        #[tokio::test(flavor = "multi_thread")]
        async fn $name() -> Result<()> {
            check($version).await
        }
    )+};
}

checked!(13 version_13, 14 version_14, 15 version_15, 16 version_16, 17 version_17, 18 version_18);

async fn check(version: u32) -> Result<()> {
    let server = Watched::start(version).await?;
    access::limits_are_those_of_the_version(&server).await.context("limits")?;
    access::the_account_changes_nothing(&server).await.context("account")?;
    access::obstacles_are_named(&server).await.context("obstacles")?;
    access::an_older_extension_is_named(&server).await.context("extension")?;
    figures::every_kind_is_read(&server).await.context("every kind")?;
    figures::own_statements_are_left_out(&server).await.context("own statements")?;
    figures::sessions_are_seen_as_they_are(&server).await.context("sessions")?;
    figures::progress_moves_while_pages_are_scanned(&server).await.context("progress")?;
    figures::plans_are_made(&server).await.context("plans")?;
    figures::wait_events_have_their_kind(&server).await.context("wait events")?;
    indexes::those_that_sort_otherwise_are_told_apart(&server).await.context("order of indexes")?;
    indexes::names_mean_what_the_search_path_says(&server).await.context("search path")?;
    rules::what_keeps_rows_is_found_as_the_server_does(&server).await.context("rows kept")?;
    rules::prepared_transactions_hold_locks(&server).await.context("prepared transactions")?;
    rules::sequences_are_as_narrow_as_their_columns(&server).await.context("sequences")?;
    rules::shared_row_locks_are_counted(&server).await.context("shared row locks")?;
    log::an_error_is_told(&server).await.context("log")?;
    log::plans_of_what_ran_are_read(&server).await.context("plans in the log")?;
    totals::are_the_servers_own_to_the_unit(&server).await.context("totals")?;
    changes::a_dropped_index_takes_its_reads_along(&server).await.context("dropped index")?;
    changes::an_index_built_anew_counts_once(&server).await.context("index built anew")?;
    changes::statements_of_functions_are_told_apart(&server).await.context("functions")?;
    changes::a_statement_that_came_back_is_noticed(&server).await.context("thrown out")?;
    totals::input_and_output_are_the_servers_own(&server).await.context("input and output")?;
    acts::a_table_is_analyzed_once_the_server_lets_hurnix(&server).await.context("analyzing")?;
    acts::long_work_tells_how_far_it_is_and_can_be_stopped(&server).await.context("long work")?;
    now::processes_are_told_apart_from_sessions(&server).await.context("processes")?;
    now::locks_are_those_of_the_server(&server).await.context("locks")?;
    now::long_work_is_told_while_it_goes_on(&server).await.context("long work while it goes on")?;
    now::upkeep_is_due_by_the_servers_own_rule(&server).await.context("upkeep")?;
    replicas::are_seen_from_both_ends(&server).await.context("replicas")?;
    // So many statements are explained that others are thrown out of the server's statement counters.
    plans::are_read_and_told_apart(&server).await.context("plans told apart")?;
    families::are_those_of_the_server(&server).await.context("families")?;
    changes::a_crash_ends_differences(&server).await.context("crash")
}
