use std::fmt;
use std::str::FromStr;

/// What the traffic on the passage server plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Story {
    /// Nothing out of the ordinary.
    #[default]
    Quiet,
    /// Since the release "gate list by state", gates ask for travellers of any state, not only for
    /// those who wait, and no index serves that.
    GateList,
}

impl Story {
    /// All stories.
    pub const ALL: [Story; 2] = [Story::Quiet, Story::GateList];
}

impl fmt::Display for Story {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(match self {
            Story::Quiet => "quiet",
            Story::GateList => "gate-list",
        })
    }
}

impl FromStr for Story {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        Story::ALL.into_iter().find(|story| story.to_string() == name).ok_or_else(|| {
            let names: Vec<String> = Story::ALL.iter().map(Story::to_string).collect();
            format!("there is no story {name:?}; there are: {}", names.join(", "))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stories_are_found_by_their_names() {
        for story in Story::ALL {
            assert_eq!(story.to_string().parse(), Ok(story));
        }
        assert!("gate".parse::<Story>().unwrap_err().contains("gate-list"));
    }
}
