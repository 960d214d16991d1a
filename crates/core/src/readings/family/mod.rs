//! Rule 6: statement families, statements that differ only in literals.
//!
//! [`fold`] rewrites a statement into the text of its family: literals and parameters become `?`,
//! lists and rows of them fold into one, white space and comments fold away, words lose their case. Quoted
//! identifiers stay to the letter. It reads tokens, not grammar, so it works on any dialect and on
//! text that was cut short. [`masked`] takes the literals out of a statement and leaves the rest as it was written.
//!
//! ```
//! use hurnix_core::readings::family::fold;
//! let one = fold("SELECT * FROM passage_leg WHERE crossing_id IN (4, 5) AND state='boarded' -- gate");
//! let two = fold("select *\n from passage_leg where crossing_id in ( 7 ) and state = 'open'");
//! assert_eq!(one.text, "select * from passage_leg where crossing_id in (?, ...) and state = ?");
//! assert_eq!(one.text, two.text);
//! assert_eq!(one.tag.as_deref(), Some("gate"));
//! ```
//!
//! Laws, tested below: folding a folded text changes nothing; two texts that differ in literals only
//! have one family; different tables or columns never do; no literal survives, in whatever form it is written.

mod lists;
mod mask;
mod scan;

pub use mask::{mask_tag, masked};
pub(crate) use scan::block_comment_end;

use scan::{Kind, Token, groups, scan};

/// A statement's family.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Family {
    /// The text all its statements share.
    pub text: String,
    /// A leading or trailing comment, by which authors find their statements again. As it was written: see
    /// [`mask_tag`].
    pub tag: Option<String>,
}

impl Family {
    /// A number that tells families apart. The same in every release.
    pub fn fingerprint(&self) -> i64 {
        fingerprint(&self.text)
    }
}

/// A number that tells texts apart: their 64-bit FNV-1a. The same in every release.
pub(crate) fn fingerprint(text: &str) -> i64 {
    let hash = text
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01b3));
    hash as i64
}

/// The family of a statement. Linear in its length.
pub fn fold(statement: &str) -> Family {
    // At once, since most of a statement is words.
    let lower = statement.to_ascii_lowercase();
    let (tokens, tag) = scan(statement, &lower);
    Family { text: write(&lists::collapse(tokens), statement.is_ascii()), tag: tag.map(str::to_owned) }
}

/// Writes tokens, whose words are in lower case where they are ASCII, with one canonical spacing.
fn write(tokens: &[Token], is_ascii: bool) -> String {
    let mut text = String::with_capacity(tokens.iter().map(|token| token.text.len() + 1).sum());
    let mut before: Option<&Token> = None;
    for token in tokens {
        if before.is_some_and(|before| spaced(before, token)) {
            text.push(' ');
        }
        match token.kind {
            Kind::Word if !is_ascii && !token.text.is_ascii() => text.push_str(&token.text.to_lowercase()),
            Kind::Value if token.text != "..." => text.push('?'),
            _ => text.push_str(token.text),
        }
        before = Some(token);
    }
    text
}

fn spaced(before: &Token, token: &Token) -> bool {
    match (before.sign(), token.sign()) {
        ([], []) => true,
        // Written together, they would be read back as a cast with a colon behind it.
        (b":", [b':', ..]) => true,
        // Two dots are no name.
        (b".", b".") => true,
        (b"(" | b"[" | b"." | b"::", _) | (_, b")" | b"]" | b"," | b";" | b"." | b"::") => false,
        ([], b"(" | b"[") => match before.kind {
            Kind::Word => groups(before.text) && !before.text.eq_ignore_ascii_case("array"),
            Kind::Quoted => false,
            Kind::Value | Kind::Sign => true,
        },
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[track_caller]
    fn folds(statement: &str, family: &str) {
        assert_eq!(fold(statement).text, family);
        assert_eq!(fold(family).text, family, "folding again changed it");
    }

    #[test]
    fn literals_of_every_kind_become_a_question_mark() {
        folds(
            "SELECT 1, -2.5e-3, 'it''s', E'a\\'b', $$x$$, $t$ y $t$, $1, B'01', .5",
            "select ?, ?, ?, ?, ?, ?, ?, ?, ?",
        );
        folds("select a-1, a - -1, (a)-1", "select a - ?, a - ?, (a) - ?");
        folds("select now() - interval '15 minutes'", "select now() - interval ?");
    }

    #[test]
    fn lists_of_literals_become_one() {
        folds("select 1 from deck where id in (1,2,3)", "select ? from deck where id in (?, ...)");
        folds("select 1 from deck where id = any(array[1, 2])", "select ? from deck where id = any (array[?, ...])");
        folds("insert into deck values (1,'a'), (2,'b'), (3,'c')", "insert into deck values (?, ?)");
        folds("insert into deck values (1, now())", "insert into deck values (?, now())");
        folds("select 1 where id in (1, other)", "select ? where id in (?, other)");
    }

    #[track_caller]
    fn are_one(statements: &[&str]) {
        for other in statements {
            assert_eq!(fold(other).text, fold(statements[0]).text);
            folds(other, &fold(other).text);
        }
    }

    #[test]
    fn what_differs_in_literals_only_is_one_family_in_whatever_form() {
        are_one(&[
            "select 1 where a = true",
            "select 1 where a = null",
            "select 'x' where a = 7",
            "select $1 where a = $2",
        ]);
        are_one(&["update deck set metres = null", "update deck set metres = 5"]);
        are_one(&["select 1 where not true", "select 1 where not false"]);
        are_one(&["select a where id in ($1::uuid, $2::uuid)", "select a where id in ('5'::uuid)"]);
        are_one(&[
            "select a where id in ($1::numeric(10, 2), $2::numeric(10, 2))",
            "select a where id in (3::numeric(9, 1))",
        ]);
        are_one(&[
            "select a where at in (date '2026-01-01', date '2026-02-01')",
            "select a where at in (date '2026-03-01')",
        ]);
        are_one(&["select a where (b, c) in ((1, 2), (3, 4))", "select a where (b, c) in ((5, 'x'))"]);
        are_one(&["select a where (b, c) in (row(1, 2), row(3, 4))", "select a where (b, c) in (row(5, 6))"]);
        are_one(&["select array[[1, 2], [3, 4]]", "select array[[5], [6]]"]);
        are_one(&["select any(array['a', 'b']::text[])", "select any(array['c']::text[])"]);
        are_one(&[
            "insert into t values (1, now(), default)",
            "insert into t values (1, now(), default), (2, now(), default)",
        ]);
        are_one(&["insert into t values ($1::int, 'x')", "insert into t values (1::int, 'y'), (2::int, null)"]);
        are_one(&["select a limit -1", "select a limit 5"]);
        are_one(&["select case when b then -1 else -2 end", "select case when b then 1 else 2 end"]);
        are_one(&["update t set a = -1 returning -5", "update t set a = 1 returning 5"]);
        are_one(&[r"select U&'d\0061t\+000061'", "select U&'d!0061' UESCAPE '!'", "select 'x'"]);
        are_one(&[r"select E'it\'s'", "select 'it''s'", "select $$it's$$", "select $q$it's$q$", "select 'it'\n's'"]);
        // The same text in a session where a backslash escapes, and where it does not.
        are_one(&[r"select 'it\'s', 'tide' from deck", r"select 'c:\', 'tide' from deck", "select 'x', 'y' from deck"]);
        are_one(&[r"select 'a' where b = '\\' and c = 'd\'e'", "select 'a' where b = 'c' and c = 'f'"]);
        // As version 18 writes lists.
        are_one(&["select a where id in ($1 /*, ... */)", "select a where id in (1, 2)"]);
        // Cut short within a list, wherever.
        are_one(&[
            "select a where id in (1, 2, 3",
            "select a where id in (1, 2, 'x",
            "select a where id in (1,",
            "select a where id in (1, 2::te",
        ]);
        are_one(&[
            "insert into t values (1, 'a'), (2, 'b'), (3",
            "insert into t values (1, 'a'), (2, 'b'),",
            "insert into t values (1, 'a')",
        ]);
    }

    #[test]
    fn what_differs_in_more_is_not_one_family() {
        let differ = |one: &str, other: &str| assert_ne!(fold(one).text, fold(other).text);
        differ("select 1 where a is null", "select 1 where a is not null");
        differ("select 1 where a is true", "select 1 where a = true");
        differ("select t.true from t", "select t.false from t");
        differ("select 1 where id in (a, b)", "select 1 where id in (a, c)");
        differ("select 1 where id in (a::int)", "select 1 where id in (b::int)");
        differ("select 1 where id in (select a from t)", "select 1 where id in (select a from u)");
        differ("insert into t values ((select a from u))", "insert into t values ((select a from v))");
        differ("insert into t values (1, 2)", "insert into t values (1)");
        differ("select a ? 'key' from t", "select a ?| 'key' from t");
        folds(
            "select a ? 'key', a ?| $1, a ?& array['x'], a @? '$.x' from t",
            "select a ? ?, a ?| ?, a ?& array[?, ...], a @? ? from t",
        );
        folds("select a, date - 5 from t", "select a, date - ? from t");
        folds("alter table t add c int not null default true", "alter table t add c int not null default ?");
        folds("select 1 where a = '1'or'x' = b", "select ? where a = ? or ? = b");
    }

    #[test]
    fn a_deep_text_is_folded_without_end() {
        let deep = format!("select 1 in {}1{}", "(1, ".repeat(50_000), ")".repeat(50_000));
        assert!(fold(&deep).text.starts_with("select ? in ("));
        let nested = format!("select 1 {}", "in (1, ".repeat(20_000));
        assert!(fold(&nested).text.starts_with("select ? in ("));
    }

    #[test]
    fn a_masked_statement_can_be_planned_as_before() {
        let same = "select  \"Deck\".a\n  from t where b = $1::numeric(10, 2) and c = cast($2 as varchar(20))\n order by 2 desc, 1";
        assert_eq!(masked(same), same);
        assert_eq!(
            masked("/* user=7 */ SELECT 'x', 12 FROM t -- gate 5\n WHERE a = $1 AND b IN (4711, E'y') LIMIT 5"),
            "SELECT $2, $3 FROM t WHERE a = $1 AND b IN ($4, $5) LIMIT $6"
        );
        assert_eq!(
            masked("select a from t group by 1, 2 having count(*) > 5"),
            "select a from t group by 1, 2 having count(*) > $1"
        );
        assert_eq!(masked("select a is null, true"), "select a is null, true");
    }

    #[test]
    fn a_tag_keeps_its_words_and_no_values() {
        assert_eq!(mask_tag("svc=web action:'boarding' id=4711"), "svc=web action:? id=?");
        assert_eq!(mask_tag("traceparent='00-4bf92f-00f0-01',user=ada@skerry.example"), "traceparent=?,user=?");
    }

    #[test]
    fn white_space_comments_and_case_fold_and_quoted_names_do_not() {
        folds(
            "SELECT /* all */ \"Deck\".Metre\n\tFROM \"Deck\"  where metre>=3 ;",
            "select \"Deck\".metre from \"Deck\" where metre >= ?",
        );
        assert_ne!(fold("select 1 from \"Deck\"").text, fold("select 1 from deck").text);
        folds("select count( * ) from deck", "select count(*) from deck");
        folds("select a::text||'x' from deck", "select a::text || ? from deck");
    }

    #[test]
    fn the_tag_is_kept_beside_the_family() {
        assert_eq!(fold("/* gate:list */ select 1").tag.as_deref(), Some("gate:list"));
        assert_eq!(fold("select 1 -- gate").tag.as_deref(), Some("gate"));
        assert_eq!(fold("select /* inner */ 1").tag, None);
        assert_eq!(fold("/* gate */ select 1").text, fold("select 2").text);
    }

    #[test]
    fn text_that_is_cut_short_or_no_sql_at_all_is_folded_too() {
        folds("select * from deck where name = 'nort", "select * from deck where name = ?");
        folds("select $abc", "select $ abc");
        folds("/* open", "");
        folds("a : :: b", "a : ::b");
        folds("sélect ☃ from ñandú", "sélect ☃ from ñandú");
    }

    fn literal() -> impl Strategy<Value = String> {
        prop_oneof![
            any::<i32>().prop_map(|number| number.to_string()),
            (0.0f64..1e6).prop_map(|number| format!("{number:.3}")),
            "[a-z '\\-/*$?]{0,12}".prop_map(|text| format!("'{}'", text.replace('\'', "''"))),
        ]
    }

    proptest! {
        #[test]
        fn folding_twice_is_folding_once(text in "[ -~\\n]{0,80}") {
            let once = fold(&text).text;
            prop_assert_eq!(&fold(&once).text, &once);
        }

        #[test]
        fn any_text_is_folded_without_panic(text in any::<String>()) {
            fold(&text);
        }

        #[test]
        fn only_literals_differ_then_the_family_does_not(a in literal(), b in literal(), c in literal(), d in literal()) {
            let statement = |x: &str, y: &str| {
                format!("select fare, metre - {x} from passage where state = {y} and metre in ({x}, {y}) limit {x}")
            };
            prop_assert_eq!(fold(&statement(&a, &b)).text, fold(&statement(&c, &d)).text);
        }

        /// However a value is written, and wherever it stands, it is in none of the texts that are kept.
        #[test]
        fn no_planted_secret_survives(
            secret in "[a-z]{3}zq[0-9a-z]{6}",
            number in 10_000u64..u64::MAX,
            form in 0usize..16,
            place in 0usize..12,
            escapes in any::<bool>(),
        ) {
            let written = match form {
                0 => format!("'{secret}'"),
                1 => format!("'it''s {secret}'"),
                2 => format!(r"E'it\'s {secret}'"),
                3 => format!("$${secret}$$"),
                4 => format!("$b1${secret} $ $b2$ {secret}$b1$"),
                5 => format!("U&'\\0061{secret}'"),
                6 => format!("U&'{secret}!0061' uescape '!'"),
                7 => format!("'{secret}' \n  '{secret}'"),
                8 => format!("'{secret}'::text"),
                9 => format!("date '{secret}'"),
                10 => number.to_string(),
                11 => format!("-{number}.25e3"),
                12 => format!("0x{number:x}"),
                13 => format!("B'{number:b}'"),
                14 if escapes => format!(r"'it\'s {secret}\\'"),
                14 => format!(r"'{secret}\'"),
                _ => format!("'{{\"name\": \"{secret}\", \"n\": {number}}}'"),
            };
            let statement = match place {
                0 => format!("select a from t where b = {written} and c = 'x'"),
                1 => format!("select a from t where b in ({written}, {written}) order by 1"),
                2 => format!("insert into t (a, b) values ({written}, now()), (default, {written})"),
                3 => format!("update t set a = {written}, b = array[{written}, null] where c = any(array[{written}])"),
                4 => format!("select f({written}, a) from t limit {written}"),
                5 => format!("(select case when a then {written} else {written} end from t)"),
                6 => format!("select a ? {written}, b ?| array[{written}] from t"),
                7 => format!("select 'a'\n from t where (a, b) in ((1, {written}), ({written}, 2)) -- gate"),
                8 => format!("/* svc=web id={number} name='{secret}' */ select a from t where b = {written}"),
                9 => format!("select a from t -- user={secret} {number}\n where b between {written} and {written}"),
                10 => format!("create role x password {written}"),
                _ => format!("select a from t where b in (1, 2, {written}"),
            };
            let (number, hex, bits) = (number.to_string(), format!("{number:x}"), format!("{number:b}"));
            let family = fold(&statement);
            let tag = family.tag.as_deref().map(mask_tag).unwrap_or_default();
            for text in [&family.text, &masked(&statement), &tag] {
                for planted in [&secret, &number, &hex, &bits] {
                    prop_assert!(!text.contains(planted.as_str()), "{planted} in {text} of {statement}");
                }
            }
            prop_assert_eq!(&fold(&family.text).text, &family.text);
            prop_assert_eq!(&fold(&masked(&statement)).text, &family.text);
        }

        #[test]
        fn other_names_are_other_families(a in "[a-z]{1,8}", b in "[a-z]{1,8}") {
            prop_assume!(a != b);
            let family = |name: &str| fold(&format!("select 1 from t_{name}")).fingerprint();
            prop_assert_ne!(family(&a), family(&b));
        }
    }
}
