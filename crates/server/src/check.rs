//! `hurnix serve --check`: says whether Hurnix could start, and changes nothing.

use anyhow::{Result, bail};
use hurnix_store::{RepositoryState, Store};

use crate::options::ServeOptions;
use crate::secrets::Sealer;
use crate::served_tls::ServedTls;

/// Looks at what the options lead to, tells each on a line, and fails where Hurnix would not start.
///
/// # Errors
/// Something is in the way of a start; it was told before.
pub async fn check(options: &ServeOptions) -> Result<()> {
    let repository = Store::look(&options.repository).await;
    let holds_secrets = repository.as_ref().is_ok_and(|found| found.holds_secrets);
    let told = [
        ("listen", Ok(listens(options))),
        ("tls-certificate", certificate(options)),
        ("key-file", key_file(options, holds_secrets)),
        ("repository", repository.map_err(|problem| problem.to_string()).and_then(|found| schema(&found))),
    ];
    let mut faults = 0;
    for (option, found) in told {
        match found {
            Ok(says) => println!("{option}: {says}"),
            Err(fault) => {
                faults += 1;
                println!("{option}: FAULT: {fault}");
            }
        }
    }
    match faults {
        0 => Ok(()),
        1 => bail!("Hurnix would not start: 1 fault"),
        _ => bail!("Hurnix would not start: {faults} faults"),
    }
}

fn listens(options: &ServeOptions) -> String {
    let (address, plain) = (options.listen, options.tls_certificate.is_none());
    match (plain, options.listen.ip().is_loopback()) {
        (false, _) => format!("{address}, HTTPS"),
        (true, true) => format!("{address}, HTTP on this machine only"),
        (true, false) => format!("{address}, HTTP in clear, as --allow-plain-http says"),
    }
}

fn certificate(options: &ServeOptions) -> Result<String, String> {
    match (&options.tls_certificate, &options.tls_key) {
        (Some(certificate), Some(key)) => match ServedTls::open(certificate, key) {
            Ok(_) => Ok(format!("{} and its key fit", certificate.display())),
            Err(error) => Err(format!("{error:#}")),
        },
        _ => Ok("none".into()),
    }
}

fn key_file(options: &ServeOptions, holds_secrets: bool) -> Result<String, String> {
    let file = &options.key_file;
    match (file.exists(), holds_secrets) {
        (true, _) => match Sealer::open(file, holds_secrets) {
            Ok(_) => Ok(format!("{} holds a key", file.display())),
            Err(error) => Err(format!("{error:#}")),
        },
        (false, false) => Ok(format!("{} is not there yet; it is made on the first start", file.display())),
        (false, true) => Err(format!(
            "{} is not there, and the repository holds passwords that only its key opens: restore it, or name the right file",
            file.display()
        )),
    }
}

fn schema(found: &RepositoryState) -> Result<String, String> {
    let RepositoryState { server_version, schema, expected, may_create, .. } = found;
    let change = match schema {
        Some(schema) if schema == expected => return Ok(format!("PostgreSQL {server_version}, schema {schema}")),
        Some(schema) if schema > expected => {
            return Err(format!(
                "its schema {schema} is of a newer Hurnix than this, which knows {expected}: start that one"
            ));
        }
        Some(schema) => format!("schema {schema} becomes {expected} on the next start"),
        None => "no schema yet; it is made on the first start".into(),
    };
    if *may_create {
        Ok(format!("PostgreSQL {server_version}, {change}"))
    } else {
        Err(format!("{change}, for which the account lacks the right: GRANT CREATE ON SCHEMA public TO it"))
    }
}
