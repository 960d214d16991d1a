//! Readings of counters, kind by kind, made from the list in `counters`: what they are told apart by, and how they
//! are kept.

use crate::all_counters;
use crate::readings::counters::Counters;
use crate::readings::difference::Snapshot;
use crate::readings::figures::Figures;
use crate::readings::statement::{NestedKey, StatementKey};
use crate::time::Timestamp;

/// By what servers tell objects apart, and so by what they are kept.
pub trait ObjectKey {
    /// Which sort of key it is.
    const SORT: KeySort;
}

/// Sorts of keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeySort {
    /// A statement: kept by its family, account and database.
    Statement,
    /// The server's number of the object; 0 for the server as a whole.
    Number,
    /// A name.
    Name,
}

impl ObjectKey for StatementKey {
    const SORT: KeySort = KeySort::Statement;
}

impl ObjectKey for NestedKey {
    const SORT: KeySort = KeySort::Statement;
}

impl ObjectKey for u32 {
    const SORT: KeySort = KeySort::Number;
}

impl ObjectKey for String {
    const SORT: KeySort = KeySort::Name;
}

macro_rules! readings {
    ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {
        /// A reading of one kind of counters.
        #[derive(Debug, Clone, PartialEq)]
        pub enum CountersRead {
            $(
                #[doc = concat!("By ", $stem, ".")]
                $kind(Snapshot<$key, $counters>),
            )+
        }

        impl CountersRead {
            /// The kind of figures that it is of.
            pub fn figures(&self) -> Figures {
                match self { $(CountersRead::$kind(_) => Figures::$kind,)+ }
            }

            /// When it was read, by the server's clock.
            pub fn at(&self) -> Timestamp {
                match self { $(CountersRead::$kind(snapshot) => snapshot.at,)+ }
            }

            /// About the memory that it takes, in bytes.
            pub fn bytes(&self) -> usize {
                match self { $(CountersRead::$kind(snapshot) => snapshot.rows.len() * size_of::<($key, $counters)>(),)+ }
            }
        }

        impl Figures {
            /// Names of the counters of a kind; none where it consists of something else.
            pub fn counter_names(self) -> &'static [&'static str] {
                match self {
                    $(Figures::$kind => <$counters>::NAMES,)+
                    _ => &[],
                }
            }

            /// What the objects of a kind of counters are told apart by.
            pub fn key_sort(self) -> Option<KeySort> {
                match self {
                    $(Figures::$kind => Some(<$key>::SORT),)+
                    _ => None,
                }
            }
        }

        $(
            impl Kept for $counters {
                const FIGURES: Figures = Figures::$kind;
                const STEM: &'static str = $stem;
                const OBJECT: &'static str = $object;

                fn of(read: CountersRead) -> Option<Snapshot<$key, $counters>> {
                    match read {
                        CountersRead::$kind(snapshot) => Some(snapshot),
                        _ => None,
                    }
                }

                fn of_ref(read: &CountersRead) -> Option<&Snapshot<$key, $counters>> {
                    match read {
                        CountersRead::$kind(snapshot) => Some(snapshot),
                        _ => None,
                    }
                }
            }

            impl From<Snapshot<$key, $counters>> for CountersRead {
                fn from(snapshot: Snapshot<$key, $counters>) -> CountersRead {
                    CountersRead::$kind(snapshot)
                }
            }
        )+
    };
}

/// Counters that are kept by object.
pub trait Kept: Counters<Key: ObjectKey> {
    /// The kind of figures.
    const FIGURES: Figures;
    /// What the names of its tables in the repository begin with.
    const STEM: &'static str;
    /// Columns there that name the object, with commas between them.
    const OBJECT: &'static str;

    /// The reading, if it is of this kind.
    fn of(read: CountersRead) -> Option<Snapshot<Self::Key, Self>>;

    /// Likewise, without taking it.
    fn of_ref(read: &CountersRead) -> Option<&Snapshot<Self::Key, Self>>;
}

all_counters!(readings);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::figures::Shape;

    #[test]
    fn the_list_holds_every_kind_that_consists_of_counters() {
        for figures in Figures::ALL {
            let is_listed = figures.key_sort().is_some() && !figures.counter_names().is_empty();
            assert_eq!(is_listed, figures.shape() == Shape::Counters, "{figures:?}");
        }
    }
}
