//! A plan: its curves, limits and answer, renewed with every edit.

mod table;
pub mod working;

use std::sync::Arc;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::allocation::Answer;
use tiller_core::score::Kind;
use tiller_desk::account::settings::Settings;
use tiller_desk::book::Book;
use tiller_desk::learning::{self, Learners};
use tiller_desk::plans::file::PlanFile;
use tiller_desk::plans::{FieldError, GroupBy, Opened, Typed};
use tiller_desk::scores::words::caveat;
use tiller_desk::{DeskError, PlanId, plans as desk, scores};

use crate::App;
use crate::error::PageError;
use crate::extract::{Fragment, Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book;
use crate::params::Params;
use crate::sent::{Fields, Sent};
use table::{PlanTable, Scene, table};

#[derive(Template, WebTemplate)]
#[template(path = "plan.html")]
struct PlanPage {
    frame: Frame,
    table: PlanTable,
}

/// One plan.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<PlanId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let opened = desk::open(&app.db, &member.account, id).await?;
    let file = opened.file.clone();
    page(&app, &member, &params, &opened, &file, &Typed::new(), Vec::new()).await
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    opened: &Opened,
    file: &PlanFile,
    fields: &Typed,
    errors: Vec<FieldError>,
) -> Result<PlanPage, PageError> {
    let book = book(&app.db, member, params).await?;
    let frame = match &book {
        Some(book) => Frame::of_book(member, Station::Budgets, params, book),
        None => Frame::new(member, Station::Budgets, params),
    };
    let newer = match &book {
        Some(book) => {
            let (_, known) = desk::known(&app.db, book).await?;
            let mut fresh = opened.file.clone();
            desk::refresh(&mut fresh, book, &known);
            desk::differs(&fresh, &opened.file)
        }
        None => false,
    };
    let beside = Beside::of(app, member, book.as_deref(), opened.plan.id).await?;
    let scene = Scene { opened, file, fields, book: book.as_deref(), beside: &beside, newer };
    let table = table(&frame, &scene, errors);
    Ok(PlanPage { frame, table })
}

/// What the account knows beside the plan itself.
struct Beside {
    /// Its other plans.
    others: Vec<Opened>,
    /// The campaigns whose strategies are learning.
    learners: Arc<Learners>,
    /// How such ranges have missed so far, if they have.
    caveat: Option<String>,
}

impl Beside {
    async fn of(
        app: &App,
        member: &Member,
        book: Option<&Book>,
        id: PlanId,
    ) -> Result<Self, PageError> {
        let all = desk::list(&app.db, &member.account).await?;
        let others = all.into_iter().filter(|o| o.plan.id != id).take(MOST_OTHERS).collect();
        let Some(book) = book else {
            return Ok(Self { others, learners: Arc::default(), caveat: None });
        };
        Ok(Self {
            others,
            learners: learning::of_account(&app.db, book).await?,
            caveat: caveat(scores::of_account(&app.db, book).await?.as_ref(), Kind::Results),
        })
    }
}

/// Takes what was typed into a plan; lines are grouped anew if that was asked for.
pub(super) async fn take(
    app: &App,
    member: &Member,
    book: Option<&Book>,
    file: &mut PlanFile,
    fields: &Typed,
) -> Result<Vec<FieldError>, PageError> {
    let asked = fields.get("group_by").map(|w| grouping(w));
    if let (Some(by), Some(book)) = (asked, book)
        && by != desk::grouped_by(file, book)
    {
        let settings = Settings::of_account(&app.db, member.account.id).await?;
        desk::group(file, book, Some(&settings), by);
    }
    Ok(desk::edit(file, fields))
}

/// Solves what is typed, without saving: the answer to every edit. A repair's button makes its change first.
pub async fn solve(
    member: Member,
    State(app): State<App>,
    Id(id): Id<PlanId>,
    Fragment(fragment): Fragment,
    params: Params,
    fields: Fields,
) -> Result<Response, PageError> {
    let repair = fields.read::<usize>("repair");
    let mut fields = fields.map();
    let opened = desk::open(&app.db, &member.account, id).await?;
    let mut file = opened.file.clone();
    let book = book(&app.db, &member, &params).await?;
    let errors = take(&app, &member, book.as_deref(), &mut file, &fields).await?;
    if let Some(n) = repair
        && errors.is_empty()
    {
        if let Answer::Infeasible { repairs, .. } = desk::work(&file).answer
            && let Some(repair) = repairs.get(n)
        {
            desk::mend(&mut file, repair);
        }
        // What the repair changed is shown in its place, not what was typed before.
        fields.retain(|name, _| name == "name");
    }
    if fragment {
        let frame = Frame::new(&member, Station::Budgets, &params);
        let beside = Beside::of(&app, &member, book.as_deref(), opened.plan.id).await?;
        let scene = Scene {
            opened: &opened,
            file: &file,
            fields: &fields,
            book: book.as_deref(),
            beside: &beside,
            newer: false,
        };
        return Ok(table(&frame, &scene, errors).into_response());
    }
    Ok(page(&app, &member, &params, &opened, &file, &fields, errors).await?.into_response())
}

/// Saves what is typed.
pub async fn save(Id(id): Id<PlanId>, sent: Sent) -> Result<Response, PageError> {
    keep(id, sent, false).await
}

/// Takes the newest curves, rates and present spends into the plan, and saves it with what is typed.
pub async fn refresh(Id(id): Id<PlanId>, sent: Sent) -> Result<Response, PageError> {
    keep(id, sent, true).await
}

async fn keep(id: PlanId, sent: Sent, newest: bool) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = sent;
    let (app, member, params, fields) = (&app, &member, &params, &fields.map());
    let opened = desk::open(&app.db, &member.account, id).await?;
    let mut file = opened.file.clone();
    let book = book(&app.db, member, params).await?;
    let mut errors = take(app, member, book.as_deref(), &mut file, fields).await?;
    if let (true, Some(book)) = (newest, &book) {
        let (_, known) = desk::known(&app.db, book).await?;
        desk::refresh(&mut file, book, &known);
    }
    if errors.is_empty() {
        let name = fields.get("name").unwrap_or(&opened.plan.name);
        match desk::save(&app.db, &member.account, id, name, &file).await {
            Ok(()) => {
                let page = member.path(&format!("budgets/{id}"));
                return Ok(Redirect::to(&format!("{page}{}", params.only_period())).into_response());
            }
            Err(DeskError::Invalid(message)) => {
                errors.push(FieldError { field: "name".into(), message })
            }
            Err(error) => return Err(error.into()),
        }
    }
    let page = page(app, member, params, &opened, &file, fields, errors).await?;
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

/// So many other plans stand on the chart of budget and result.
const MOST_OTHERS: usize = 4;
/// What lines can be grouped by: word, title.
const GROUPINGS: [(Option<GroupBy>, &str, &str); 3] = [
    (Some(GroupBy::Channel), "channel", "by channel"),
    (Some(GroupBy::Country), "country", "by country"),
    (None, "none", "not at all"),
];

fn grouping(word: &str) -> Option<GroupBy> {
    GROUPINGS.iter().find(|g| g.1 == word).and_then(|g| g.0)
}
