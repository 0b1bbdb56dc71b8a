//! The working of a plan's figures, as the plan stands in the form.

use axum::extract::State;
use axum::response::Response;
use tiller_desk::budgets::curves::DAYS;
use tiller_desk::budgets::responses::RATE_DAYS;
use tiller_desk::{PlanId, plans as desk};

use super::take;
use crate::App;
use crate::error::PageError;
use crate::extract::{Fragment, Id, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::book;
use crate::pages::working::WorkingFragment;
use crate::params::Params;
use crate::sent::Fields;

/// The working of one figure: a line's `budget-N` or `results-N`, a limit's `cost-N`, or one of the whole.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<PlanId>,
    Fragment(fragment): Fragment,
    params: Params,
    fields: Fields,
) -> Result<Response, PageError> {
    let fields = fields.map();
    let opened = desk::open(&app.db, &member.account, id).await?;
    let mut file = opened.file.clone();
    let book = book(&app.db, &member, &params).await?;
    let unknown = || PageError::NotFound("This plan has no such figure.".into());
    // What could not be read is told at its field; figures stand for the rest, as on the page.
    take(&app, &member, book.as_deref(), &mut file, &fields).await?;
    file.check().map_err(|_| unknown())?;
    let worked = desk::work(&file);
    let figure = fields.get("figure").map_or("", String::as_str);
    let (name, working) = desk::working(&file, &worked, figure).ok_or_else(unknown)?;
    let body = WorkingFragment {
        working,
        name: name.unwrap_or(opened.plan.name),
        window: if desk::of_a_month(&file) {
            format!("Rates of the last {RATE_DAYS} settled days, curves of the last {DAYS}")
        } else {
            span(opened.plan.window)
        },
        source: "the campaigns’ reports, as they were when the plan was made".into(),
    };
    let frame = || Frame::new(&member, Station::Budgets, &params);
    Ok(body.shown(fragment, frame))
}
