//! Advice: what somebody should change on a server, what that is predicted to bring, and what came of it.
//!
//! Here belong the kinds of advice, each with its rule in a file of its name, and how far a piece of advice has come.
//! How a server is told, its source knows; what came of a change in general is measured in `effect`.

mod carried_out;
mod evidence;
/// Rule 8: missing indexes.
pub mod missing_index;
mod number;
mod state;
mod track_record;
/// Rule 8: indexes that nobody reads.
pub mod unused_index;

use serde::{Deserialize, Serialize};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantArray};

use crate::findings::effect::{BeforeAfter, Effect, Verdict, effect};
use crate::readings::catalog::Catalog;
use crate::readings::counters::IndexCounters;
use crate::readings::difference::Snapshot;
use crate::time::Window;

pub use carried_out::{CarriedOut, SeenFamily};
pub use evidence::{Evidence, FamilyCost, IndexUseSeen};
pub use state::AdviceState;
pub use track_record::{Outcome, TrackRecord, track_record};

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

    /// Schema and name of the table that it is about.
    fn table(&self) -> (&str, &str);

    /// What it is about within the database; the same advice is never in the book twice.
    fn subject(&self) -> String;

    /// What it is predicted to bring.
    fn prediction(&self) -> Prediction;

    /// Families that it is meant for, those that gain most first.
    fn families(&self) -> Vec<i64>;

    /// Whether its change has been made, by the catalog of its database.
    fn is_carried_out(&self, catalog: &Catalog) -> bool;

    /// Whether it is closed, open and not given anew by this evidence, nor by any for so many rounds.
    fn lapses(&self, evidence: &Evidence, silent_buckets: f64) -> bool;

    /// Whether other advice that is given now promises all that this one does: then one of them is enough.
    fn is_taken_over_by(&self, _given: &[&Advice]) -> bool {
        false
    }

    /// Whether it is another case than the same advice that was measured earlier: only then is what brought nothing
    /// advised again.
    fn is_another_case(&self, _earlier: &Advice) -> bool {
        true
    }

    /// Whether the change may touch a statement: then what becomes of it cannot serve as a control.
    fn may_touch(&self, statement: &str) -> bool;

    /// Whether the effect is measured on a family.
    fn is_measured_on(&self, family: i64, statement: &str) -> bool;

    /// Whether what was made within a window has not once been read since; of what is not read, nothing is known.
    fn is_unread(&self, _made: Window, _catalog: &Catalog, _reads: &Snapshot<u32, IndexCounters>) -> bool {
        false
    }

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

/// Declares the kinds of advice: name, payload, title.
macro_rules! kinds_of_advice {
    ($($(#[$doc:meta])* $kind:ident($payload:ty) $title:literal;)+) => {
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
    /// An index that is missing.
    MissingIndex(MissingIndex) "Missing index";
    /// An index that nobody reads.
    UnusedIndex(UnusedIndex) "Unused index";
}

impl Advice {
    /// Its kind.
    pub fn kind(&self) -> AdviceKind {
        self.into()
    }

    /// Whether it is not given because the same was carried out before and measured with this verdict: it brought
    /// nothing, and the case is the same.
    pub fn is_withheld_by(&self, earlier: &Advice, verdict: Verdict) -> bool {
        matches!(verdict, Verdict::NoEffect | Verdict::Harmful) && !self.told().is_another_case(earlier)
    }
}
