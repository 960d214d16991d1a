use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_store::{AuditEntry, Caller, Means};

use crate::state::App;

/// What a request that changes something leaves in the audit trail: an entry before anything is done, which is
/// closed with what came of it.
#[derive(Debug, Clone, Default)]
pub struct AuditNote(Arc<Mutex<Noted>>);

#[derive(Debug, Clone, Default)]
struct Noted {
    entry: AuditEntry,
    /// Number of the entry, once it stands in the trail.
    audit_id: Option<i64>,
}

impl AuditNote {
    pub(crate) fn new(client: String, action: String, instance_id: Option<i32>) -> AuditNote {
        let entry = AuditEntry { client, action, instance_id, ..AuditEntry::default() };
        AuditNote(Arc::new(Mutex::new(Noted { entry, audit_id: None })))
    }

    fn noted(&self) -> MutexGuard<'_, Noted> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Who it was.
    pub fn caller(&self, caller: &Caller) {
        let means = match &caller.means {
            Means::Session { .. } => "session".into(),
            Means::Token(name) => format!("token {name}"),
        };
        self.account(&caller.name, means);
    }

    /// Who signs in by which means.
    pub fn account(&self, name: &str, means: impl Into<String>) {
        let mut noted = self.noted();
        (noted.entry.account, noted.entry.means) = (name.to_owned(), means.into());
    }

    /// What else is to be known of it. Never a secret.
    pub fn detail(&self, detail: impl Into<String>) {
        self.noted().entry.detail = detail.into();
    }

    /// Puts the entry into the trail, before anything is done. Where that fails, nothing may be done.
    pub async fn begin(&self, app: &App) -> hurnix_store::Result<()> {
        let entry = self.noted().entry.clone();
        if self.noted().audit_id.is_none() && !entry.action.is_empty() {
            let audit_id = app.store.begin_audit(&entry).await?;
            self.noted().audit_id = Some(audit_id);
        }
        Ok(())
    }

    /// Closes the entry with what came of it. Whoever was never recognised leaves nothing, and neither does who
    /// must wait: else strangers could fill the repository.
    pub(crate) async fn end(&self, app: &App, outcome: AuditOutcome, why: Option<&str>, must_wait: bool) {
        let Noted { mut entry, audit_id } = self.noted().clone();
        let detail = [Some(entry.detail.as_str()).filter(|detail| !detail.is_empty()), why];
        entry.detail = detail.into_iter().flatten().collect::<Vec<_>>().join("; ");
        entry.outcome = outcome;
        let written = match audit_id {
            Some(audit_id) => app.store.end_audit(audit_id, &entry.detail, outcome).await,
            None if entry.account.is_empty() || must_wait => Ok(()),
            None => app.store.add_audit(&entry).await,
        };
        if let Err(error) = written {
            tracing::error!(%error, ?entry, "what came of a change could not be recorded");
        }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for AuditNote {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(parts.extensions.get::<AuditNote>().cloned().unwrap_or_default())
    }
}
