//! What a server holds besides tables: databases, accounts, and who may sign in.

use crate::common::{PASSWORD, address, watched};
use anyhow::Result;
use hurnix_core::readings::inventory::PasswordKept;
use hurnix_source::Source;
use hurnix_source::postgres::{PostgresSource, access_script};
use sqlx::{AssertSqlSafe, Executor};

#[tokio::test]
async fn databases_and_accounts_are_told_and_secrets_only_as_how_they_are_kept() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    for sql in [
        "CREATE DATABASE tides CONNECTION LIMIT 7",
        "ALTER DATABASE tides SET work_mem = '32MB'",
        "CREATE ROLE skerry_ops SUPERUSER LOGIN",
        "CREATE ROLE gates NOLOGIN",
        "SET password_encryption = 'md5'",
        "CREATE ROLE skerry_desk LOGIN PASSWORD 'barnacle' VALID UNTIL '2027-01-01 00:00:00+00' CONNECTION LIMIT 3",
        "ALTER ROLE skerry_desk IN DATABASE tides SET statement_timeout = '5s'",
        "CREATE SCHEMA quay",
        "CREATE VIEW quay.now_open AS SELECT 1 AS harbour",
        "CREATE SEQUENCE quay.berth_number",
        "CREATE FUNCTION quay.metres() RETURNS int LANGUAGE sql AS 'SELECT 80'",
    ] {
        admin.execute(sql).await?;
    }
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let inventory = source.inventory().await?;
    let tides = inventory.database("tides").unwrap();
    assert_eq!((tides.owner.as_str(), tides.encoding.as_str(), tides.connection_limit), ("postgres", "UTF8", Some(7)));
    assert!(inventory.database("template1").unwrap().is_template);
    assert_eq!(
        inventory.tablespaces.iter().map(|space| space.name.as_str()).collect::<Vec<_>>(),
        ["pg_default", "pg_global"]
    );
    let account = |name: &str| inventory.accounts.iter().find(|account| account.name == name).unwrap();
    assert!(account("skerry_ops").is_superuser && !account("gates").may_sign_in);
    assert!(account("pg_monitor").is_internal && !account("postgres").is_internal);
    assert_eq!(account("skerry_desk").connection_limit, Some(3));
    assert_eq!(account("skerry_desk").password_until.unwrap().0, 1_798_761_600_000_000);
    assert_eq!(account("skerry_desk").password, None, "it may not be read yet");
    assert_eq!(inventory.access_rules, None);
    let own: Vec<_> = inventory
        .own_settings
        .iter()
        .map(|own| (own.database.as_deref(), own.account.as_deref(), own.name.as_str(), own.value.as_str()))
        .collect();
    assert_eq!(
        own,
        [(Some("tides"), Some("skerry_desk"), "statement_timeout", "5s"), (Some("tides"), None, "work_mem", "32MB")]
    );
    let contents = inventory.contents;
    assert_eq!(
        (contents.schemas, contents.views, contents.sequences, contents.functions),
        (2, 1, 1, 1),
        "without those of extensions"
    );
    assert!(contents.files > 100 && inventory.log_files.unwrap().bytes >= 16 << 20);
    assert_eq!(inventory.temp_files.unwrap().count, 0);
    let absent: Vec<&str> = source.limits().iter().map(|limit| limit.figures.as_str()).collect();
    assert!(absent.contains(&"access rules"), "{absent:?}");
    source.close().await;

    // The remedy, executed, gives what was missing; what is told of passwords is how they are kept.
    admin.execute(AssertSqlSafe(access_script("hurnix_watch"))).await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let inventory = source.inventory().await?;
    let kept = |name: &str| inventory.accounts.iter().find(|account| account.name == name).unwrap().password;
    assert_eq!(kept("skerry_ops"), Some(PasswordKept::Absent));
    assert_eq!(kept("skerry_desk"), Some(PasswordKept::Md5));
    assert_eq!(kept("hurnix_watch"), Some(PasswordKept::Scram));
    let rules = inventory.access_rules.as_ref().unwrap();
    assert_eq!(
        (rules[0].accounts.as_slice(), rules[0].method.as_str()),
        (["hurnix_watch".to_owned()].as_slice(), "scram-sha-256")
    );
    assert!(rules.iter().any(|rule| rule.method == "trust" && !rule.is_remote()));
    let all = serde_json::to_string(&inventory)?;
    assert!(!all.contains("barnacle") && !all.contains(PASSWORD) && !all.contains("SCRAM-SHA-256$"), "{all}");
    source.close().await;
    Ok(())
}
