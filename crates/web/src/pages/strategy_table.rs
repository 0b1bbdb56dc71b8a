//! The table of conditions that strategies are advised by: read by everybody, edited by an admin of the account.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::strategy::{Aim, Kind, MOST_ROWS, Table, Values};
use tiller_desk::account::decisions::{self, Own};
use tiller_desk::bids::advisor;
use tiller_desk::bids::typed_table::{TypedRow, read, written};
use tiller_desk::{Role, change_words};

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// A list to choose from: words and what is shown.
type Choices = Vec<(&'static str, &'static str)>;

#[derive(Template, WebTemplate)]
#[template(path = "strategy_table.html")]
struct TablePage {
    frame: Frame,
    rows: Vec<TypedRow>,
    /// Whether it is the account's own.
    own: bool,
    admin: bool,
    errors: Vec<String>,
    aims: Choices,
    values: Choices,
    kinds: Choices,
}

fn may(member: &Member) -> bool {
    member.role >= decisions::least_role(&Own::Strategies(None))
}

fn page(member: &Member, params: &Params, rows: Vec<TypedRow>, own: bool) -> TablePage {
    TablePage {
        frame: Frame::new(member, Station::Bids, params),
        rows,
        own,
        admin: may(member),
        errors: Vec::new(),
        aims: Aim::ALL.map(|a| (a.word(), a.word())).to_vec(),
        values: Values::ALL.map(|v| (v.word(), v.word())).to_vec(),
        kinds: Kind::ALL.map(|k| (k.word(), change_words::kind(k))).to_vec(),
    }
}

/// The table.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let (table, own) = advisor::table(&app.db, member.account.id).await?;
    let mut rows = written(&table);
    if may(&member) && rows.len() < MOST_ROWS {
        // An empty one, to be filled in.
        rows.push(TypedRow::default());
    }
    Ok(page(&member, &params, rows, own))
}

fn typed(fields: &Fields) -> Vec<TypedRow> {
    let of = |name: &str, i: usize| fields.text(&format!("{name}-{i}")).to_owned();
    (0..=MOST_ROWS)
        .take_while(|i| fields.get(&format!("advice-{i}")).is_some())
        .map(|i| TypedRow {
            place: of("place", i),
            aim: of("aim", i),
            values: of("values", i),
            conversions: of("conversions", i),
            history: of("history", i),
            flight: of("flight", i),
            target_known: of("target_known", i),
            fears_runaway: of("fears_runaway", i),
            advice: of("advice", i),
            because: of("because", i),
            would_change: of("would_change", i),
        })
        .collect()
}

/// Sets the account's own table, or goes back to the shipped one.
pub async fn set(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    if member.role < Role::Admin {
        return Err(PageError::NotAllowed);
    }
    let rows = if fields.get("shipped").is_some() {
        None
    } else {
        let typed = typed(fields);
        match read(&typed) {
            Ok(table) if table == Table::shipped() => None,
            Ok(table) => Some(table.rows().to_vec()),
            Err(errors) => {
                let page = TablePage { errors, ..page(member, params, typed, true) };
                return Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response());
            }
        }
    };
    let (account, person) = (member.account.id, Some(sent.person()));
    decisions::decide(&app.db, account, person, None, &Own::Strategies(rows)).await?;
    Ok(sent.on_to("bids/strategies/table").into_response())
}
