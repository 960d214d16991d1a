use serde::Serialize;
use tokio::sync::broadcast;
use utoipa::ToSchema;

/// Something that pages may want to show anew.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Event {
    /// The instance it is about.
    pub instance_id: i32,
    /// What is new.
    pub news: News,
}

/// What is new.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum News {
    /// Samples of activity were written.
    Activity,
    /// A period of statement counters, or a plan, was written.
    Statements,
    /// Other counters or single figures were written.
    Figures,
    /// What the server consists of was read: catalog, settings, databases, accounts.
    Contents,
    /// Entries of the server's log were written.
    Log,
    /// Collection began, stopped or resumed.
    Collection,
    /// Changes, advice or effects were judged anew.
    Findings,
    /// An alarm was opened, closed, or is another than before.
    Alarms,
}

/// Tells whoever listens what is new. Those who are slow miss news, which only means one refresh less.
#[derive(Debug, Clone)]
pub struct Events {
    sender: broadcast::Sender<Event>,
}

impl Events {
    /// Nobody listens yet.
    pub fn new() -> Self {
        Events { sender: broadcast::channel(256).0 }
    }

    /// Tells.
    pub fn tell(&self, instance_id: i32, news: News) {
        // Nobody listening is no error.
        let _ = self.sender.send(Event { instance_id, news });
    }

    /// Listens from now on.
    pub fn listen(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }
}
