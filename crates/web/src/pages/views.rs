//! Saved views: put by and given up from Spend.

use axum::extract::State;
use axum::response::Redirect;
use tiller_desk::account::views as desk;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::params::Params;
use crate::sent::Fields;

/// Puts the view by that the form's query shows. A viewer may: it is their own.
pub async fn save(
    member: Member,
    State(app): State<App>,
    fields: Fields,
) -> Result<Redirect, PageError> {
    // Read and written again: only what is a query of ours comes back into a page.
    let query = Params::read(fields.text("query").trim_start_matches('?')).to_string();
    desk::save(&app.db, &member.account, member.person.id, fields.text("name"), &query).await?;
    Ok(Redirect::to(&member.path(&format!("spend{query}"))))
}

/// Gives one up.
pub async fn remove(
    member: Member,
    State(app): State<App>,
    fields: Fields,
) -> Result<Redirect, PageError> {
    desk::remove(&app.db, &member.account, member.person.id, fields.text("name")).await?;
    Ok(Redirect::to(&member.path("spend")))
}
