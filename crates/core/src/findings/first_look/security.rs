use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::findings::health::Health;
use crate::readings::inventory::{AccessRule, Account, Inventory, PasswordKept};
use crate::time::SECONDS_PER_DAY;
use crate::wording::{counted, names, seconds};

/// Names told in a list.
const MOST_NAMES: usize = 8;
/// A password that ends within so many days is told of.
const ENDS_SOON_DAYS: f64 = 14.0;
/// Methods by which an account signs in without a password of its own.
const OTHER_PROOFS: [&str; 8] = ["peer", "ident", "cert", "gss", "sspi", "ldap", "radius", "pam"];

/// Who could sign in who should not.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let Some(inventory) = &evidence.inventory else {
        notes.unknown(
            "Accounts were not read yet.",
            Step::new("Wait for the first reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Security, "");
    };
    superusers(&mut notes, evidence, inventory);
    passwords(&mut notes, evidence, inventory);
    match &inventory.access_rules {
        None => {
            let text =
                "Who may sign in from where, and which accounts have no password, may be read by superusers only.";
            let step = Step::new(
                "Install the functions that tell just that, or look yourself at pg_hba_file_rules and pg_authid.",
            );
            notes.unknown(text, step.see(Page::Collection));
        }
        Some(rules) => access(&mut notes, rules),
    }
    unencrypted(&mut notes, evidence, inventory);
    notes.done(Check::Security, "Nobody gets in without proof of who they are, and one superuser may sign in.")
}

fn people(inventory: &Inventory) -> impl Iterator<Item = &Account> {
    inventory.accounts.iter().filter(|account| account.may_sign_in && !account.is_internal)
}

fn superusers(notes: &mut Notes, evidence: &Evidence, inventory: &Inventory) {
    let superusers: Vec<&str> =
        people(inventory).filter(|account| account.is_superuser).map(|account| account.name.as_str()).collect();
    notes.fact("Superusers that may sign in", names(superusers.iter().copied(), MOST_NAMES));
    if superusers.contains(&evidence.account.as_str()) {
        notes.look(
            format!("Hurnix itself watches as {}, a superuser: pg_monitor is enough.", evidence.account),
            Step::new("Make an account with no more rights than it needs; the connection form prints the statements.")
                .see(Page::Instances),
        );
    }
    if superusers.len() > 1 {
        notes.look(
            format!(
                "{} may sign in: {}.",
                counted(superusers.len(), "superuser"),
                names(superusers.iter().copied(), MOST_NAMES)
            ),
            Step::new("Nothing is refused to a superuser: leave one, and give the others the rights that they need."),
        );
    }
}

fn passwords(notes: &mut Notes, evidence: &Evidence, inventory: &Inventory) {
    let md5: Vec<&str> = named(inventory, |account| account.password == Some(PasswordKept::Md5));
    if !md5.is_empty() {
        notes.look(
            format!("Passwords are kept by MD5, which is quick to guess: {}.", names(md5, MOST_NAMES)),
            Step::new("Set password_encryption to scram-sha-256, and let their owners set them anew."),
        );
    }
    let without: Vec<&str> = named(inventory, |account| account.password == Some(PasswordKept::Absent));
    if !without.is_empty() {
        notes.fact("Accounts without password", names(without.iter().copied(), MOST_NAMES));
    }
    let rules = inventory.access_rules.as_deref().unwrap_or_default();
    let unproven: Vec<&str> = without
        .into_iter()
        .filter(|account| {
            !rules.iter().any(|rule| is_about(rule, account) && OTHER_PROOFS.contains(&rule.method.as_str()))
        })
        .collect();
    if !unproven.is_empty() && inventory.access_rules.is_some() {
        notes.look(
            format!(
                "{} no password: {}.",
                if unproven.len() == 1 { "An account has".into() } else { format!("{} accounts have", unproven.len()) },
                names(unproven, MOST_NAMES)
            ),
            Step::new("They sign in only where nobody asks for one. Give them one, or take their right to sign in."),
        );
    }
    for account in people(inventory) {
        let Some(left) = account.password_until.map(|until| until.seconds_since(evidence.at)) else { continue };
        if (0.0..ENDS_SOON_DAYS * SECONDS_PER_DAY).contains(&left) {
            notes.look(
                format!("The password of {} is good for another {} only.", account.name, seconds(left)),
                Step::new("Let its owner set it anew before whatever uses it stands still."),
            );
        }
    }
}

fn named(inventory: &Inventory, which: impl Fn(&Account) -> bool) -> Vec<&str> {
    people(inventory).filter(|account| which(account)).map(|account| account.name.as_str()).collect()
}

/// Whether a rule is about an account by its name or by a word that stands for all.
fn is_about(rule: &AccessRule, account: &str) -> bool {
    rule.accounts.iter().any(|name| name == "all" || name == account)
}

fn access(notes: &mut Notes, rules: &[AccessRule]) {
    for rule in rules {
        let whom = names(rule.accounts.iter().map(String::as_str), MOST_NAMES);
        let databases = names(rule.databases.iter().map(String::as_str), MOST_NAMES);
        let place = rule.address.as_deref().unwrap_or("the machine itself");
        notes.fact(
            format!("Line {}", rule.line),
            format!("{} to {databases} as {whom} from {place}: {}", rule.connection, rule.method),
        );
    }
    let like = |method: &str, remote: bool| -> Vec<&AccessRule> {
        rules.iter().filter(|rule| rule.method == method && rule.is_remote() == remote).collect()
    };
    let (plain, wrapped): (Vec<_>, Vec<_>) =
        like("password", true).into_iter().partition(|rule| rule.connection != "hostssl");
    let asked = "Ask for scram-sha-256 there, then reload the configuration.";
    for (found, verdict, says, step) in [
        (like("trust", true), Health::Act, "let other machines in without proof of who somebody is", asked),
        (plain, Health::Act, "let passwords cross the network in plain text", asked),
        (
            like("trust", false),
            Health::Look,
            "let anybody on the machine itself in without proof of who it is",
            "Ask for peer or scram-sha-256 there, then reload the configuration.",
        ),
        ([wrapped, like("password", false)].concat(), Health::Look, "ask for passwords in plain text", asked),
        (
            like("ident", true),
            Health::Look,
            "believe other machines who somebody is",
            "Ask for scram-sha-256 or a certificate there.",
        ),
    ] {
        if !found.is_empty() {
            let text = format!("{} of the access rules {says}: {}.", counted(found.len(), "line"), lines(&found));
            notes.point(verdict, text, Step::new(step));
        }
    }
}

/// Which lines, and whom each is about.
fn lines(rules: &[&AccessRule]) -> String {
    let told: Vec<String> = rules
        .iter()
        .map(|rule| {
            let whom = names(rule.accounts.iter().map(String::as_str), MOST_NAMES);
            format!("{} (as {whom} from {})", rule.line, rule.address.as_deref().unwrap_or("the machine itself"))
        })
        .collect();
    names(told.iter().map(String::as_str), MOST_NAMES)
}

fn unencrypted(notes: &mut Notes, evidence: &Evidence, inventory: &Inventory) {
    let remote = inventory.access_rules.iter().flatten().any(|rule| rule.is_remote() && rule.method != "reject");
    if let Some(ssl) = evidence.setting_value("ssl") {
        notes.fact("ssl", ssl);
        if ssl == "off" && remote {
            notes.look(
                "Other machines may connect, and the server offers no encryption.",
                Step::new("Give the server a certificate, set ssl to on, and use hostssl in the access rules."),
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn account(name: &str, is_superuser: bool, password: PasswordKept) -> Account {
        Account { name: name.into(), may_sign_in: true, is_superuser, password: Some(password), ..Account::default() }
    }

    fn rule(connection: &str, address: Option<&str>, method: &str) -> AccessRule {
        AccessRule {
            line: 3,
            connection: connection.into(),
            databases: vec!["all".into()],
            accounts: vec!["all".into()],
            address: address.map(str::to_owned),
            method: method.into(),
        }
    }

    fn look(accounts: Vec<Account>, rules: Option<Vec<AccessRule>>) -> Finding {
        check(&Evidence {
            account: "hurnix_watch".into(),
            inventory: Some(Inventory { accounts, access_rules: rules, ..Inventory::default() }),
            ..Evidence::default()
        })
    }

    fn usual() -> Vec<Account> {
        vec![account("postgres", true, PasswordKept::Absent), account("skerry_gate", false, PasswordKept::Scram)]
    }

    #[test]
    fn the_usual_server_is_quiet_and_what_cannot_be_read_is_no_trouble() {
        let rules = vec![rule("local", None, "peer"), rule("host", Some("10.0.0.0"), "scram-sha-256")];
        assert_eq!(look(usual(), Some(rules)).verdict(), Health::Quiet);
        assert_eq!(look(usual(), None).verdict(), Health::NoData);
    }

    #[test]
    fn rules_that_ask_for_no_proof_are_worse_from_other_machines() {
        let verdict = |connection, address, method| {
            look(usual(), Some(vec![rule("local", None, "peer"), rule(connection, address, method)])).verdict()
        };
        assert_eq!(verdict("host", Some("0.0.0.0"), "trust"), Health::Act);
        assert_eq!(verdict("host", Some("127.0.0.1"), "trust"), Health::Look);
        assert_eq!(verdict("host", Some("10.1.0.0"), "password"), Health::Act);
        assert_eq!(verdict("hostssl", Some("10.1.0.0"), "password"), Health::Look);
        assert_eq!(verdict("host", Some("10.1.0.0"), "ident"), Health::Look);
    }

    #[test]
    fn superusers_and_passwords_are_named() {
        let rules = || Some(vec![rule("local", None, "peer")]);
        let second = look(
            vec![account("postgres", true, PasswordKept::Scram), account("skerry_ops", true, PasswordKept::Scram)],
            rules(),
        );
        assert!(second.summary.contains("postgres, skerry_ops"), "{}", second.summary);
        let own = look(vec![account("hurnix_watch", true, PasswordKept::Scram)], rules());
        assert!(own.summary.starts_with("Hurnix itself"), "{}", own.summary);
        let md5 = look(vec![account("skerry_desk", false, PasswordKept::Md5)], rules());
        assert!(md5.summary.contains("MD5") && md5.summary.contains("skerry_desk"), "{}", md5.summary);
        let absent = look(
            vec![account("skerry_desk", false, PasswordKept::Absent)],
            Some(vec![rule("host", Some("127.0.0.1"), "scram-sha-256")]),
        );
        assert_eq!(absent.summary, "An account has no password: skerry_desk.");
    }
}
