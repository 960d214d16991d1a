use std::fmt;
use std::str::FromStr;

macro_rules! stories {
    ($($story:ident $name:literal $doc:literal $shows:literal;)*) => {
        /// What is played on the passage server.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Story {
            $(#[doc = $doc] $story,)*
        }

        impl Story {
            /// All stories.
            pub const ALL: &'static [Story] = &[$(Story::$story),*];

            /// Its name on the command line.
            pub fn name(self) -> &'static str {
                match self { $(Story::$story => $name,)* }
            }

            /// What happens in it.
            pub fn meaning(self) -> &'static str {
                match self { $(Story::$story => $doc,)* }
            }

            /// Which pages of the instance show it.
            pub fn shows_on(self) -> &'static str {
                match self { $(Story::$story => $shows,)* }
            }
        }
    };
}

stories! {
    Quiet "quiet" "Nothing out of the ordinary." "Load";
    GateList "gate-list" "Gates ask for travellers of any state, not only for those who wait, and no index serves that." "Load, the statement itself, Advice book";
    HoldUp "hold-up" "A supervisor keeps a crossing locked, idle in a transaction, and 37 scanners wait behind." "Sessions, First look";
    Deadlocks "deadlocks" "Three times two desks lock a vehicle's slot and a passage in opposite order." "Log, First look";
    GiantSearch "giant-search" "A free-text hunt through everything sorts its way through temporary space." "Load, Log, First look";
    UnusedIndexes "unused-indexes" "Indexes made just in case: two that nobody reads, and one that says the same as another." "Advice book, First look";
    Bloat "bloat" "A report keeps its transaction open while vehicles are moved about, and old rows cannot be cleaned up." "First look, Databases";
    SettingChange "setting-change" "The memory of sorts and hashes is lowered: the day sheet spills to disk, and goes through all slots again for each crossing." "Log, Statements";
}

impl fmt::Display for Story {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.name())
    }
}

impl FromStr for Story {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        Story::ALL.iter().copied().find(|story| story.name() == name).ok_or_else(|| {
            let names: Vec<&str> = Story::ALL.iter().map(|story| story.name()).collect();
            format!("there is no story {name:?}; there are: {}", names.join(", "))
        })
    }
}

/// Stories that are played at the same time, as one line has them; none where it is quiet.
///
/// # Errors
/// A word is no story.
pub fn stories_of(line: &str) -> Result<Vec<Story>, String> {
    let mut stories = Vec::new();
    for name in line.split_whitespace() {
        let story: Story = name.parse()?;
        if story != Story::Quiet && !stories.contains(&story) {
            stories.push(story);
        }
    }
    Ok(stories)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stories_are_found_by_their_names() {
        for story in Story::ALL {
            assert_eq!(story.to_string().parse(), Ok(*story));
            assert!(story.meaning().ends_with('.') && !story.shows_on().is_empty());
        }
        assert_eq!(stories_of("hold-up  gate-list hold-up\n"), Ok(vec![Story::HoldUp, Story::GateList]));
        assert_eq!((stories_of("quiet"), stories_of("")), (Ok(vec![]), Ok(vec![])));
        assert!(stories_of("hold-up mutiny").unwrap_err().contains("mutiny"));
        assert!("gate".parse::<Story>().unwrap_err().contains("gate-list"));
    }
}
