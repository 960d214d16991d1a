use std::any::type_name;
use std::borrow::Cow;

use hurnix_core::Named;
use hurnix_core::action::{ActionKind, ActionState};
use hurnix_core::advice::{AdviceKind, AdviceState};
use hurnix_core::effect::Verdict;
use hurnix_core::health::Health;
use hurnix_core::instance_settings::SettingForm;
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
/// What came of a change.
pub type VerdictWord = Word<Verdict>;
/// How the value of a setting is given.
pub type SettingFormWord = Word<SettingForm>;
/// How urgent something is.
pub type HealthWord = Word<Health>;

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
