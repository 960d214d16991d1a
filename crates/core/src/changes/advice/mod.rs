//! Advice: what somebody should change on a server, what that is predicted to bring, and what came of it.
//!
//! Here belong the kinds of advice, each with its rule in a file of its name, and how far a piece of advice has come.
//! How a server is told, its source knows; what came of a change in general is measured in `effect`.

mod evidence;
/// Rule 8: missing indexes.
pub mod missing_index;
mod number;
mod state;
/// Rule 8: indexes that nobody reads.
pub mod unused_index;

use serde::{Deserialize, Serialize};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantArray};

use crate::findings::effect::{BeforeAfter, Effect, effect};
use crate::readings::catalog::Catalog;

pub use evidence::{Evidence, FamilyCost, IndexUseSeen};
pub use state::AdviceState;

use missing_index::MissingIndex;
use unused_index::UnusedIndex;

/// What a change is predicted to bring.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Prediction {
    /// Time saved on this instance, in seconds per day; 0 where none is promised.
    pub saved_seconds_per_day: f64,
    /// Space given back, in bytes; 0 where none is promised.
    pub freed_bytes: f64,
}

/// What a kind of advice tells of one piece of it.
pub trait Tells: Sync {
    /// Database that it is about; empty where that was not noted.
    fn database(&self) -> &str;

    /// What it is about within the database; the same advice is never in the book twice.
    fn subject(&self) -> String;

    /// What it is predicted to bring.
    fn prediction(&self) -> Prediction;

    /// Families that it is meant for, those that gain most first.
    fn families(&self) -> Vec<i64>;

    /// Whether its change has been made, by the catalog of its database.
    fn is_carried_out(&self, catalog: &Catalog) -> bool;

    /// Whether the evidence speaks against it where it is not given anew, for kinds that lapse: what is merely not seen
    /// just now, such as an index that was dropped a moment ago, does not.
    fn is_refuted(&self, _evidence: &Evidence) -> bool {
        true
    }

    /// Whether the change may touch a statement: then what becomes of it cannot serve as a control.
    fn may_touch(&self, statement: &str) -> bool;

    /// Whether the effect is measured on a family.
    fn is_measured_on(&self, family: i64, statement: &str) -> bool;

    /// What came of the change, from what it is measured on and from what it cannot touch.
    fn measured(&self, touched: Vec<BeforeAfter>, controls: &[BeforeAfter], seed: u64) -> Effect {
        effect(&touched, controls, seed)
    }
}

/// The rule of a kind of advice.
trait Rule: Sized {
    /// What it advises by the evidence, the largest effect first.
    fn judge(evidence: &Evidence) -> Vec<Self>;
}

/// Declares the kinds of advice: name, payload, title, and whether advice that is not given anew does not hold any
/// more.
macro_rules! kinds_of_advice {
    ($($(#[$doc:meta])* $kind:ident($payload:ty) $title:literal $lapses:literal;)+) => {
        /// One piece of advice.
        #[derive(Debug, Clone, PartialEq, Serialize, Deserialize, EnumDiscriminants)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(tag = "kind", rename_all = "snake_case")]
        #[strum_discriminants(name(AdviceKind), doc = "A kind of advice.")]
        #[strum_discriminants(derive(IntoStaticStr, EnumString, VariantArray), strum(serialize_all = "snake_case"))]
        pub enum Advice {
            $($(#[$doc])* $kind($payload),)+
        }

        impl Advice {
            /// What its kind tells of it.
            pub fn told(&self) -> &dyn Tells {
                match self { $(Advice::$kind(told) => told,)+ }
            }
        }

        impl AdviceKind {
            /// What it is called.
            pub fn title(self) -> &'static str {
                match self { $(AdviceKind::$kind => $title,)+ }
            }

            /// Whether open advice that is not given anew does not hold any more.
            pub fn lapses(self) -> bool {
                match self { $(AdviceKind::$kind => $lapses,)+ }
            }
        }

        /// What all kinds advise for a database by the evidence.
        pub fn advise(evidence: &Evidence) -> Vec<Advice> {
            let mut advice = Vec::new();
            $(advice.extend(<$payload as Rule>::judge(evidence).into_iter().map(Advice::$kind));)+
            advice
        }
    };
}

kinds_of_advice! {
    /// An index that is missing. What ran in one hour says nothing of another, so it holds until it is answered.
    MissingIndex(MissingIndex) "Missing index" false;
    /// An index that nobody reads. One read is enough to keep it.
    UnusedIndex(UnusedIndex) "Unused index" true;
}

impl Advice {
    /// Its kind.
    pub fn kind(&self) -> AdviceKind {
        self.into()
    }
}

/// Whether a statement names something anywhere, as a word.
fn has_word(statement: &str, name: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    statement.split(|c: char| !is_part(c)).any(|word| word.eq_ignore_ascii_case(name))
}
