use serde::{Deserialize, Serialize};

use super::Trouble;
use crate::changes::action::Action;
use crate::findings::first_look::Page;
use crate::findings::health::Health;
use crate::time::Timestamp;

/// A trouble as it was just seen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sign {
    /// What it is.
    pub trouble: Trouble,
    /// Of what; empty for the server as a whole. With the trouble it says which alarm it is one of.
    pub object: String,
    /// Families that it is about, where it is about some.
    #[serde(default)]
    pub families: Vec<i64>,
    /// How urgent it is: act or look.
    pub verdict: Health,
    /// In one sentence that stands alone.
    pub text: String,
    /// When it began, where that is known.
    pub since: Option<Timestamp>,
    /// Seconds lost to it in a second.
    pub lost_seconds_per_second: f64,
    /// What it rests on.
    pub facts: Vec<Fact>,
    /// What to do about it.
    pub step: String,
    /// Page that shows more.
    pub page: Option<Page>,
    /// Statements to run on the server.
    pub statement: Option<String>,
    /// What Hurnix itself can put in force.
    pub action: Option<Action>,
    /// The figure that is as it should not be, where it is one that is followed.
    #[serde(default)]
    pub figure: Option<FigureOf>,
}

/// A figure that is followed, of an object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FigureOf {
    /// Name of the figure.
    pub figure: String,
    /// The object; empty for the server as a whole.
    pub object: String,
}

/// A piece of evidence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fact {
    /// What it is of.
    pub what: String,
    /// The figure, with its unit.
    pub value: String,
}

impl Sign {
    /// A trouble without evidence or step.
    pub fn new(trouble: Trouble, object: impl Into<String>, verdict: Health, text: impl Into<String>) -> Sign {
        Sign {
            trouble,
            object: object.into(),
            families: Vec::new(),
            verdict,
            text: text.into(),
            since: None,
            lost_seconds_per_second: 0.0,
            facts: Vec::new(),
            step: String::new(),
            page: None,
            statement: None,
            action: None,
            figure: None,
        }
    }

    /// Whether the other comes from it: a trouble of this kind explains one of that, and where both are about statements
    /// they are about one of the same.
    pub fn explains(&self, other: &Sign) -> bool {
        let (mine, others) = (&self.families, &other.families);
        let is_apart = !mine.is_empty() && !others.is_empty() && !mine.iter().any(|family| others.contains(family));
        self.trouble.explains(other.trouble) && !is_apart
    }

    /// Whether both are signs of one trouble of one thing.
    pub fn is_of(&self, trouble: Trouble, object: &str) -> bool {
        self.trouble == trouble && self.object == object
    }
}

/// Signs of one trouble of one thing as one: the most urgent tells, then the costliest.
pub fn one_of_each(signs: Vec<Sign>) -> Vec<Sign> {
    let mut all: Vec<Sign> = Vec::new();
    for sign in signs {
        let known = all.iter_mut().find(|known| known.is_of(sign.trouble, &sign.object));
        let Some(known) = known else {
            all.push(sign);
            continue;
        };
        let rank = |sign: &Sign| (sign.verdict, std::cmp::Reverse(sign.lost_seconds_per_second.max(0.0).to_bits()));
        let since = known.since.into_iter().chain(sign.since).min();
        let (mut telling, other) =
            if rank(&sign) < rank(known) { (sign, known.clone()) } else { (known.clone(), sign) };
        telling.since = since;
        telling.figure = telling.figure.or_else(|| other.figure.clone());
        telling.facts.push(Fact { what: "Besides".into(), value: other.text });
        *known = telling;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_most_urgent_sign_of_a_thing_tells() {
        let sign = |object: &str, verdict, text: &str| Sign::new(Trouble::Sequence, object, verdict, text);
        let all = one_of_each(vec![
            sign("a", Health::Look, "half"),
            sign("b", Health::Look, "half"),
            Sign { since: Some(Timestamp(5)), ..sign("a", Health::Act, "nearly all") },
        ]);
        assert_eq!(all.len(), 2);
        assert_eq!((all[0].text.as_str(), all[0].since), ("nearly all", Some(Timestamp(5))));
        assert_eq!(all[0].facts, [Fact { what: "Besides".into(), value: "half".into() }]);
    }
}
