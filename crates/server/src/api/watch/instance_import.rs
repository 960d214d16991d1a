//! Many instances at once: a list is looked at first, then brought in, and can be taken back.

use hurnix_core::Named;
use hurnix_core::access::tls_mode::TlsMode;
use std::collections::{HashMap, HashSet};

use axum::Json;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::instance_settings::{InstanceSettings, SETTINGS};
use hurnix_store::{Credential, NewInstance};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, ListBody, Path, Query};
use crate::api::base::figures::Id;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::{TlsModeWord, Word};
use crate::api::watch::connection::Connection;
use crate::csv::{self, safe};
use crate::instance_import::{ListFormat, Row, all_fields, rows};
use crate::state::{App, now};

/// PostgreSQL's usual port.
const USUAL_PORT: u16 = 5432;
/// Encryption where a row does not say.
const USUAL_TLS: TlsMode = TlsMode::Prefer;

/// In which form a list is written, by its name.
pub type ListFormatWord = Word<ListFormat>;

/// A list of instances.
#[derive(Deserialize, ToSchema)]
pub struct InstanceList {
    /// In which form it is given.
    format: ListFormatWord,
    /// The list itself. Fields: label, host, port, database, account, password or credential, tls, tls_ca,
    /// host_endpoint, allows_plain_password, group, and the settings of an instance.
    text: String,
}

/// What a list would bring.
#[derive(Serialize, ToSchema)]
pub struct ListPreview {
    /// Row by row.
    rows: Vec<ListRow>,
    /// Rows that would be imported.
    good: usize,
    /// Rows that would be left out.
    bad: usize,
}

/// A row of a list. Its password is not repeated.
#[derive(Serialize, ToSchema)]
pub struct ListRow {
    /// Line of the file, or place in the array, from 1.
    place: usize,
    /// Name on the roster.
    label: String,
    /// Host name or address.
    host: String,
    /// Port.
    port: u16,
    /// Database to connect to.
    database: String,
    /// Account to sign in with.
    account: String,
    /// Name of the credential that it signs in with.
    credential: Option<String>,
    /// Whether a password is given.
    has_password: bool,
    /// How to encrypt the connection.
    tls: TlsModeWord,
    /// Group that accounts may be limited to.
    group: Option<String>,
    /// What keeps it from being imported.
    problems: Vec<FieldProblem>,
}

/// The connection that a row asks for, with what cannot be read in it.
fn connection(row: &Row) -> (Connection, Vec<FieldProblem>) {
    let mut problems: Vec<FieldProblem> =
        row.faults.iter().map(|fault| FieldProblem::new("row", row.place, fault)).collect();
    let text = |name: &str| row.fields.get(name).cloned();
    let port = text("port").map_or(USUAL_PORT, |port| match port.parse() {
        Ok(port) if port > 0 => port,
        _ => {
            let remedy = "Give a port from 1 to 65535, or leave it out for PostgreSQL's usual one, 5432.";
            problems.push(FieldProblem::new("port", port, remedy));
            USUAL_PORT
        }
    });
    let mut flag = |name: &str| match text(name).as_deref().map(str::to_lowercase).as_deref() {
        None | Some("false" | "no") => false,
        Some("true" | "yes") => true,
        Some(other) => {
            problems.push(FieldProblem::new(name, other, "Give true or false."));
            false
        }
    };
    let allows_plain_password = flag("allows_plain_password");
    let tls = text("tls").map_or(Some(USUAL_TLS), |tls| TlsMode::named(&tls));
    if tls.is_none() {
        let remedy = format!("Give one of {}, or leave it out for {}.", TlsMode::names(), USUAL_TLS.name());
        problems.push(FieldProblem::new("tls", text("tls").unwrap_or_default(), remedy));
    }
    let tls = Word(tls.unwrap_or(USUAL_TLS));
    let mut settings = InstanceSettings::default();
    for setting in SETTINGS {
        let read = text(setting.name).map_or(Ok(()), |value| settings.read(setting, &value));
        problems.extend(read.err().map(FieldProblem::from));
    }
    let connection = Connection {
        label: text("label").unwrap_or_default(),
        host: text("host").unwrap_or_default(),
        port,
        database: text("database").unwrap_or_default(),
        account: text("account").unwrap_or_default(),
        password: text("password"),
        credential: text("credential"),
        tls,
        tls_ca: text("tls_ca"),
        host_endpoint: text("host_endpoint"),
        host_secret: None,
        allows_plain_password,
        settings,
        group: text("group"),
    };
    problems.extend(connection.faults());
    (connection, problems)
}

/// Rows with the connections that they ask for.
async fn looked_at(app: &App, list: &InstanceList) -> Result<Vec<(ListRow, Connection)>, Problem> {
    let rows = rows(list.format.0, &list.text)
        .map_err(|remedy| Problem::invalid(vec![FieldProblem::new("text", "the list", remedy)]))?;
    let taken: HashSet<String> = app.store.instances().await?.into_iter().map(|instance| instance.label).collect();
    let credentials: HashSet<String> =
        app.store.credentials().await?.into_iter().map(|credential| credential.name).collect();
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut looked_at = Vec::with_capacity(rows.len());
    for row in rows {
        let (connection, mut problems) = connection(&row);
        let label = connection.label.trim().to_owned();
        if taken.contains(&label) {
            problems.push(FieldProblem::new("label", &label, "There is an instance of this label already."));
        }
        if let Some(place) = places.get(&label).filter(|_| !label.is_empty()) {
            problems.push(FieldProblem::new("label", &label, format!("Row {place} has the same label: change one.")));
        }
        places.entry(label).or_insert(row.place);
        if let Some(name) = connection.credential.as_ref().filter(|name| !credentials.contains(*name)) {
            let remedy = "There is no credential of that name: name another, or store it first.";
            problems.push(FieldProblem::new("credential", name, remedy));
        }
        looked_at.push((shown(row.place, &connection, problems), connection));
    }
    Ok(looked_at)
}

fn shown(place: usize, connection: &Connection, problems: Vec<FieldProblem>) -> ListRow {
    let connection = connection.clone();
    ListRow {
        place,
        label: connection.label,
        host: connection.host,
        port: connection.port,
        database: connection.database,
        account: connection.account,
        credential: connection.credential,
        has_password: connection.password.is_some(),
        tls: connection.tls,
        group: connection.group,
        problems,
    }
}

/// Look at a list of instances without bringing it in.
#[utoipa::path(post, path = "/instance-lists/preview", tag = "instances", request_body = InstanceList,
    responses((status = 200, body = ListPreview)))]
pub async fn preview_list(
    State(app): State<App>,
    _: Administrator,
    ListBody(list): ListBody<InstanceList>,
) -> Answer<ListPreview> {
    let rows: Vec<ListRow> = looked_at(&app, &list).await?.into_iter().map(|(row, _)| row).collect();
    let bad = rows.iter().filter(|row| !row.problems.is_empty()).count();
    Ok(Json(ListPreview { good: rows.len() - bad, bad, rows }))
}

/// What was imported.
#[derive(Serialize, ToSchema)]
pub struct BroughtIn {
    /// Number of the list, by which the import is undone.
    list_id: Id,
    /// Instances that were added.
    added: usize,
    /// Rows that were left out, with what is wrong with them.
    left_out: Vec<ListRow>,
}

/// Import the valid rows of a list, all at once.
#[utoipa::path(post, path = "/instance-lists", tag = "instances", request_body = InstanceList,
    responses((status = 201, body = BroughtIn), (status = 409, body = Problem)))]
pub async fn bring_list_in(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    ListBody(list): ListBody<InstanceList>,
) -> Result<(StatusCode, Json<BroughtIn>), Problem> {
    let (mut good, mut left_out): (Vec<NewInstance>, Vec<ListRow>) = (Vec::new(), Vec::new());
    for (row, connection) in looked_at(&app, &list).await? {
        if row.problems.is_empty() {
            good.push(connection.checked(&app, None).await?);
        } else {
            left_out.push(row);
        }
    }
    if good.is_empty() {
        let remedy = "No row of the list is good; the preview says what is wrong with each.";
        return Err(Problem::invalid(vec![FieldProblem::new("text", "the list", remedy)]));
    }
    let list_id = app.store.add_instance_list(&good).await?;
    note.detail(format!("{} instances, {} rows left out; list {list_id}", good.len(), left_out.len()));
    app.instances_changed.notify_one();
    Ok((StatusCode::CREATED, Json(BroughtIn { list_id: Id(list_id), added: good.len(), left_out })))
}

/// What was undone.
#[derive(Serialize, ToSchema)]
pub struct TakenBack {
    /// Labels of the instances that were removed.
    labels: Vec<String>,
}

/// Take a list back: its instances are removed, with all that is known of them.
#[utoipa::path(delete, path = "/instance-lists/{list_id}", tag = "instances", params(("list_id" = String, Path)),
    responses((status = 200, body = TakenBack)))]
pub async fn take_list_back(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(list_id): Path<i64>,
) -> Answer<TakenBack> {
    let mut labels = app.store.take_back_list(list_id).await?;
    if labels.is_empty() {
        return Err(Problem::not_found("list_id", "list", list_id));
    }
    labels.sort();
    note.detail(format!("list {list_id}: {} instances", labels.len()));
    app.instances_changed.notify_one();
    Ok(Json(TakenBack { labels }))
}

/// How to write the list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// In which form; csv when left out.
    #[param(inline)]
    format: Option<ListFormatWord>,
}

/// The instances that have a connection, as a list that can be imported elsewhere. It holds no passwords.
#[utoipa::path(get, path = "/instance-lists/current", tag = "instances", params(ListQuery),
    responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn write_list(
    State(app): State<App>,
    _: Administrator,
    Query(query): Query<ListQuery>,
) -> Result<Response, Problem> {
    let credentials = app.store.credentials().await?;
    let credentials: HashMap<i32, &Credential> =
        credentials.iter().map(|credential| (credential.credential_id, credential)).collect();
    let instances = app.store.instances().await?.into_iter().filter(|instance| instance.engine == Engine::Postgres);
    let told = instances.map(|instance| {
        let credential = instance.credential_id.and_then(|id| credentials.get(&id));
        let account = if credential.is_some() { String::new() } else { instance.account_name };
        let settings = SETTINGS.iter().map(|setting| instance.settings.written(setting));
        let way = [
            instance.label,
            instance.host,
            instance.port.to_string(),
            instance.database_name,
            account,
            credential.map_or(String::new(), |credential| credential.name.clone()),
            instance.tls_mode,
            instance.tls_ca.unwrap_or_default(),
            instance.host_endpoint.unwrap_or_default(),
        ];
        let last = [instance.allows_plain_password.to_string(), instance.group.unwrap_or_default()];
        way.into_iter().chain(settings).chain(last).collect::<Vec<String>>()
    });
    // All fields but the last, which is the password.
    let heads = all_fields();
    let heads = &heads[..heads.len() - 1];
    let day = crate::api::base::window::moment(now()).format("%Y%m%d");
    let (kind, text, name) = match query.format {
        None | Some(Word(ListFormat::Csv)) => {
            let text = csv::text(heads, told.map(|row| row.into_iter().map(safe))).map_err(Problem::internal)?;
            ("text/csv; charset=utf-8", text, format!("hurnix-instances-{day}.csv"))
        }
        Some(Word(ListFormat::Json)) => {
            let list: Vec<HashMap<&str, String>> = told
                .map(|row| heads.iter().copied().zip(row).filter(|(_, value)| !value.is_empty()).collect())
                .collect();
            let text = serde_json::to_string_pretty(&list).map_err(Problem::internal)?;
            ("application/json", text, format!("hurnix-instances-{day}.json"))
        }
    };
    let name = format!("attachment; filename=\"{name}\"");
    Ok(([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, name)], text).into_response())
}
