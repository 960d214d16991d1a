use std::any::type_name;
use std::borrow::Cow;

use hurnix_core::Named;
use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_core::access::role::Role;
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_core::changes::action::{ActionKind, ActionState};
use hurnix_core::changes::advice::{AdviceKind, AdviceState};
use hurnix_core::findings::alarm::{Happening, Trouble};
use hurnix_core::findings::cause::CauseKind;
use hurnix_core::findings::effect::Verdict;
use hurnix_core::findings::first_look::{Check, PageName};
use hurnix_core::findings::health::Health;
use hurnix_core::findings::hold_up::Pattern;
use hurnix_core::findings::index_review::{Certainty, IndexFindingKind};
use hurnix_core::findings::lasting_change::{Answer, Measured, Turnout};
use hurnix_core::findings::misestimate::WhyWrong;
use hurnix_core::findings::normal_range::Side;
use hurnix_core::findings::plan_cost::PlanVerdict;
use hurnix_core::findings::plan_difference::Likeness;
use hurnix_core::findings::replication::ReplicationPart;
use hurnix_core::findings::resource::Resource;
use hurnix_core::findings::upkeep_queue::DueFor;
use hurnix_core::instance::collection_state::CollectionState;
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::instance_settings::SettingForm;
use hurnix_core::instance::marker::MarkerKind;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::figures::{Availability, Figures};
use hurnix_core::readings::metric::{Metric, Unit};
use hurnix_core::readings::operation::{OperationKind, WorkUnit};
use hurnix_core::readings::server_log::LogKind;
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_core::readings::wait_kind::WaitKind;
use hurnix_core::workload::table_use::ColumnUse;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::openapi::{ObjectBuilder, RefOr, Schema, Type};
use utoipa::{PartialSchema, ToSchema};

/// A member of a closed set of core, as its name: the document lists them all, so a page knows them by type.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Word<T>(pub T);

/// A kind of action.
pub type ActionKindWord = Word<ActionKind>;
/// How far an action has come.
pub type ActionStateWord = Word<ActionState>;
/// A kind of advice.
pub type AdviceKindWord = Word<AdviceKind>;
/// How far a piece of advice has come.
pub type AdviceStateWord = Word<AdviceState>;
/// What somebody makes of a change.
pub type AnswerWord = Word<Answer>;
/// What came of something that the audit trail tells.
pub type AuditOutcomeWord = Word<AuditOutcome>;
/// How a kind of figures stands.
pub type AvailabilityWord = Word<Availability>;
/// What may make a statement slower or faster.
pub type CauseKindWord = Word<CauseKind>;
/// What a statement does with a column.
pub type ColumnUseWord = Word<ColumnUse>;
/// A check of the first look.
pub type CheckWord = Word<Check>;
/// How collection of an instance stands.
pub type CollectionStateWord = Word<CollectionState>;
/// In how much detail figures are kept.
pub type DetailWord = Word<Detail>;
/// Why the server's own vacuum takes a table.
pub type DueForWord = Word<DueFor>;
/// What the figures of an instance come from.
pub type EngineWord = Word<Engine>;
/// A kind of figures.
pub type FiguresWord = Word<Figures>;
/// What happened to an alarm.
pub type HappeningWord = Word<Happening>;
/// How urgent something is.
pub type HealthWord = Word<Health>;
/// How a step of one plan stands to one of another.
pub type LikenessWord = Word<Likeness>;
/// What an entry of a server's log tells.
pub type LogKindWord = Word<LogKind>;
/// How sure a finding on an index is.
pub type CertaintyWord = Word<Certainty>;
/// What a review of indexes can find.
pub type IndexFindingKindWord = Word<IndexFindingKind>;
/// What sort of thing happened.
pub type MarkerKindWord = Word<MarkerKind>;
/// What of a statement, or of a server, may change and stay so.
pub type MeasuredWord = Word<Measured>;
/// A figure that is followed over time.
pub type MetricWord = Word<Metric>;
/// A kind of long work.
pub type OperationKindWord = Word<OperationKind>;
/// A page of the application.
pub type PageNameWord = Word<PageName>;
/// Why sessions held each other up.
pub type PatternWord = Word<Pattern>;
/// What a server works with.
pub type ResourceWord = Word<Resource>;
/// Which part a server has among those that replicate.
pub type ReplicationPartWord = Word<ReplicationPart>;
/// Figures that are kept together.
pub type RetentionGroupWord = Word<RetentionGroup>;
/// What somebody with an account may do.
pub type RoleWord = Word<Role>;
/// How the value of a setting is given.
pub type SettingFormWord = Word<SettingForm>;
/// Which side of a value, or of a range.
pub type SideWord = Word<Side>;
/// What sort of statement a family is.
pub type StatementKindWord = Word<StatementKind>;
/// How a connection is encrypted.
pub type TlsModeWord = Word<TlsMode>;
/// What an alarm is about.
pub type TroubleWord = Word<Trouble>;
/// What became of a lasting change.
pub type TurnoutWord = Word<Turnout>;
/// The unit of a metric.
pub type UnitWord = Word<Unit>;
/// What came of a change.
pub type VerdictWord = Word<Verdict>;
/// What a busy session spends its time on.
pub type WaitKindWord = Word<WaitKind>;
/// How a plan compares with the one before it.
pub type PlanVerdictWord = Word<PlanVerdict>;
/// Why rows were expected wrongly.
pub type WhyWrongWord = Word<WhyWrong>;
/// What long work is counted in.
pub type WorkUnitWord = Word<WorkUnit>;

impl<T: Named> Serialize for Word<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.name())
    }
}

impl<'de, T: Named> Deserialize<'de> for Word<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let name = Cow::<'de, str>::deserialize(deserializer)?;
        let unknown = || D::Error::custom(format_args!("no such word, expected one of {}", T::names()));
        T::named(&name).map(Word).ok_or_else(unknown)
    }
}

impl<T: Named> PartialSchema for Word<T> {
    fn schema() -> RefOr<Schema> {
        let names = T::all().map(Named::name);
        ObjectBuilder::new().schema_type(Type::String).enum_values(Some(names)).into()
    }
}

impl<T: Named> ToSchema for Word<T> {
    fn name() -> Cow<'static, str> {
        let path = type_name::<T>();
        path.rsplit("::").next().unwrap_or(path).into()
    }
}
