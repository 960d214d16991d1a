//! Where a server looks for names that are written without a schema (PostgreSQL, `search_path`).

/// In a search path, the schema that has the account's name.
const OWN: &str = "$user";

/// The search paths in force: schemas in the order in which they are looked through, each path once. `settings` are
/// values of `search_path` as the server keeps them; `own_schemas` are the schemas that have the name of an account.
/// Which account runs a statement is not known, so that a path through the account's own schema is one for each.
pub fn search_paths(settings: &[String], own_schemas: &[String]) -> Vec<Vec<String>> {
    let mut paths: Vec<Vec<String>> = Vec::new();
    for setting in settings {
        let path = schemas(setting);
        let of = |own: Option<&String>| -> Vec<String> {
            let schema = |name: &String| if name == OWN { own.cloned() } else { Some(name.clone()) };
            path.iter().filter_map(schema).collect()
        };
        let owners = own_schemas.iter().filter(|_| path.iter().any(|name| name == OWN)).map(Some);
        for path in owners.chain([None]).map(of) {
            if !paths.contains(&path) {
                paths.push(path);
            }
        }
    }
    paths
}

/// The schemas of one setting: names with commas between them, quoted or without case.
fn schemas(setting: &str) -> Vec<String> {
    let (mut names, mut name, mut is_quoted, mut was_quoted) = (Vec::new(), String::new(), false, false);
    let mut letters = setting.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '"' if is_quoted && letters.next_if_eq(&'"').is_some() => name.push('"'),
            '"' => (is_quoted, was_quoted) = (!is_quoted, true),
            ',' if !is_quoted => {
                names.push(std::mem::take(&mut name));
                was_quoted = false;
            }
            _ if is_quoted => name.push(letter),
            _ if letter.is_whitespace() => {}
            _ => name.extend(letter.to_lowercase()),
        }
    }
    if was_quoted || !name.is_empty() {
        names.push(name);
    }
    names.retain(|name| !name.is_empty());
    names
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn paths(settings: &[&str], own: &[&str]) -> Vec<Vec<String>> {
        let owned = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        search_paths(&owned(settings), &owned(own))
    }

    #[test]
    fn names_are_read_as_the_server_writes_them() {
        assert_eq!(schemas(r#""$user", public"#), ["$user", "public"]);
        assert_eq!(schemas(r#"Old , "Old", "a ""b"", c""#), ["old", "Old", r#"a "b", c"#]);
        assert_eq!(schemas(""), Vec::<String>::new());
        assert_eq!(schemas(r#""""#), Vec::<String>::new());
    }

    #[test]
    fn an_accounts_own_schema_is_one_for_each_account() {
        assert_eq!(paths(&[r#""$user", public"#], &[]), [["public"]]);
        assert_eq!(
            paths(&[r#""$user", public"#, "public", "old, public"], &["gate", "crew"]),
            [vec!["gate", "public"], vec!["crew", "public"], vec!["public"], vec!["old", "public"]]
        );
    }

    proptest! {
        #[test]
        fn whatever_a_name_is_it_is_read_back(names in prop::collection::vec("[ -~é]{1,12}", 1..5)) {
            let quoted: Vec<String> = names.iter().map(|name| format!("\"{}\"", name.replace('"', "\"\""))).collect();
            prop_assert_eq!(schemas(&quoted.join(", ")), names);
        }
    }
}
