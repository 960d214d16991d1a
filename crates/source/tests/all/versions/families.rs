//! Families are those of the server itself: which statements of a corpus it holds to be the same, and which ours.
//!
//! The corpus is in blocks, each with a title. Statements in a row are one family of ours; `--` begins another. Where the
//! server groups otherwise, the title names why, and of which versions that holds: `docs/families.md` explains each.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use anyhow::{Context, Result, bail, ensure};
use hurnix_core::readings::family::fold;
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};

use super::servers::{DATABASE, Watched};

const CORPUS: &str = include_str!("corpus/statements.txt");
const SCHEMA: &str = include_str!("corpus/schema.sql");
const EXPLAINED: &str = include_str!("../../../../../docs/families.md");
/// A database of its own, whose statements the server counts apart.
const CORPUS_DATABASE: &str = "corpus";
/// Fewer are no test of every form.
const LEAST_STATEMENTS: usize = 300;

/// Statements about one thing.
struct Block<'a> {
    title: &'a str,
    /// Why the server groups otherwise, and the versions in which it does.
    differs: Option<(&'a str, std::ops::RangeInclusive<u32>)>,
    /// Each with what runs before it.
    families: Vec<Vec<Statement<'a>>>,
}

struct Statement<'a> {
    before: Vec<&'a str>,
    text: &'a str,
}

fn blocks() -> Result<Vec<Block<'static>>> {
    CORPUS.split("\n\n").map(|text| block(text.trim())).collect()
}

fn block(text: &'static str) -> Result<Block<'static>> {
    let head = text.lines().next().and_then(|line| line.strip_prefix("# ")).context("a block without a title")?;
    let (title, differs) = match head.split_once(" | ") {
        None => (head, None),
        Some((title, why)) => (title, Some(versions(why)?)),
    };
    let mut block = Block { title, differs, families: vec![Vec::new()] };
    let mut before = Vec::new();
    let lines = text.split_once('\n').map_or("", |(_, rest)| rest);
    for line in lines.lines() {
        match (line, line.strip_prefix("+ ")) {
            ("--", _) => block.families.push(Vec::new()),
            (_, Some(line)) => before.push(line),
            (line, None) => {
                let statement = Statement { before: std::mem::take(&mut before), text: line };
                block.families.last_mut().context("no family")?.push(statement);
            }
        }
    }
    Ok(block)
}

/// `lists <18`, `utility <16`, `scope >=18` or `casts`.
fn versions(why: &str) -> Result<(&str, std::ops::RangeInclusive<u32>)> {
    let bounded = why.rsplit_once(' ').filter(|(_, bound)| bound.starts_with(['<', '>']));
    let Some((why, bound)) = bounded else { return Ok((why, 0..=u32::MAX)) };
    if let Some(below) = bound.strip_prefix('<') {
        return Ok((why, 0..=below.parse::<u32>()? - 1));
    }
    match bound.strip_prefix(">=") {
        Some(from) => Ok((why, from.parse()?..=u32::MAX)),
        None => bail!("no versions: {bound}"),
    }
}

pub async fn are_those_of_the_server(server: &Watched) -> Result<()> {
    let blocks = blocks()?;
    let statements = blocks.iter().flat_map(|block| block.families.iter().flatten()).map(|statement| statement.text);
    let texts: BTreeSet<&str> = statements.collect();
    ensure!(texts.len() >= LEAST_STATEMENTS, "{} statements", texts.len());
    let (groups, mut wrong) = Server::ready(server).await?.groups(&blocks).await?;
    let mut ours = HashMap::new();
    for (block, groups) in blocks.iter().zip(&groups) {
        for family in &block.families {
            let folded: BTreeSet<String> = family.iter().map(|statement| fold(statement.text).text).collect();
            if folded.len() != 1 {
                wrong.push(format!("{}: not one family of ours: {folded:?}", block.title));
            }
            for text in folded {
                if let Some(other) = ours.insert(text.clone(), block.title) {
                    wrong.push(format!("{}: one family with “{other}”: {text}", block.title));
                }
            }
        }
        let differs = differences(block, groups);
        let is_expected = block.differs.as_ref().is_some_and(|(_, versions)| versions.contains(&server.version));
        if is_expected == differs.is_empty() {
            let told = if is_expected { "the server groups alike".into() } else { differs.join("; ") };
            wrong.push(format!("{}: {told}", block.title));
        }
        if let Some((why, _)) = &block.differs
            && !EXPLAINED.contains(&format!("\n### {why}\n"))
        {
            wrong.push(format!("{}: docs/families.md does not explain “{why}”", block.title));
        }
    }
    ensure!(wrong.is_empty(), "version {}:\n{}", server.version, wrong.join("\n"));
    Ok(())
}

/// Where the server's groups of a block are not its families.
fn differences(block: &Block, groups: &[Vec<i64>]) -> Vec<String> {
    let mut differs = Vec::new();
    let mut families: BTreeMap<i64, BTreeSet<usize>> = BTreeMap::new();
    for (family, numbers) in groups.iter().enumerate() {
        if numbers.iter().collect::<BTreeSet<_>>().len() > 1 {
            differs.push(format!("the server tells apart {}", block.families[family][0].text));
        }
        numbers.iter().for_each(|number| {
            families.entry(*number).or_default().insert(family);
        });
    }
    for together in families.values().filter(|families| families.len() > 1) {
        let texts: Vec<&str> = together.iter().map(|family| block.families[*family][0].text).collect();
        differs.push(format!("the server does not tell apart {}", texts.join(" / ")));
    }
    differs
}

/// A session that runs the corpus, and one that reads how the server counted it.
struct Server {
    client: PgConnection,
    admin: PgConnection,
}

impl Server {
    async fn ready(server: &Watched) -> Result<Server> {
        server.cluster.ensure_database(CORPUS_DATABASE).await?;
        let mut admin = server.cluster.connect(DATABASE).await?;
        admin.execute("ALTER DATABASE corpus SET pg_stat_statements.track = 'top'").await?;
        let mut client = server.cluster.connect(CORPUS_DATABASE).await?;
        client.execute(SCHEMA).await?;
        Ok(Server { client, admin })
    }

    /// The server's numbers of all statements, by block and family; and what it did not run.
    async fn groups(mut self, blocks: &[Block<'_>]) -> Result<(Vec<Vec<Vec<i64>>>, Vec<String>)> {
        let (mut groups, mut failed) = (Vec::new(), Vec::new());
        for block in blocks {
            let mut numbers = Vec::new();
            for family in &block.families {
                let mut of_family = Vec::new();
                for statement in family {
                    match self.number(statement).await {
                        Ok(number) => of_family.push(number),
                        Err(error) => failed.push(format!("{}: {}: {error:#}", block.title, statement.text)),
                    }
                }
                numbers.push(of_family);
            }
            groups.push(numbers);
        }
        self.client.close().await?;
        Ok((groups, failed))
    }

    async fn number(&mut self, statement: &Statement<'_>) -> Result<i64> {
        for before in &statement.before {
            self.client.execute(sqlx::raw_sql(AssertSqlSafe(*before))).await?;
        }
        self.admin.execute("SELECT pg_stat_statements_reset()").await?;
        if statement.text.contains("$1") {
            sqlx::query(AssertSqlSafe(statement.text)).bind(5_i32).persistent(false).execute(&mut self.client).await?;
        } else {
            self.client.execute(sqlx::raw_sql(AssertSqlSafe(statement.text))).await?;
        }
        let numbers: Vec<i64> = sqlx::query_scalar(
            "SELECT queryid FROM pg_stat_statements WHERE dbid = (SELECT oid FROM pg_database WHERE datname = 'corpus')",
        )
        .fetch_all(&mut self.admin)
        .await?;
        self.client.execute("ROLLBACK").await?;
        match numbers[..] {
            [number] => Ok(number),
            _ => bail!("counted as {} statements", numbers.len()),
        }
    }
}
