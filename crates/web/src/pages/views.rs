//! Saved views: put by and given up from Spend.

use std::collections::HashMap;

use axum::Form;
use axum::extract::State;
use axum::response::Redirect;
use tiller_desk::account::views as desk;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::params::Params;

fn field<'a>(form: &'a HashMap<String, String>, name: &str) -> &'a str {
    form.get(name).map_or("", String::as_str)
}

/// Puts the view by that the form's query shows. A viewer may: it is their own.
pub async fn save(
    member: Member,
    State(app): State<App>,
    Form(form): Form<HashMap<String, String>>,
) -> Result<Redirect, PageError> {
    // Read and written again: only what is a query of ours comes back into a page.
    let query = Params::read(field(&form, "query").trim_start_matches('?')).to_string();
    desk::save(&app.db, &member.account, member.person.id, field(&form, "name"), &query).await?;
    Ok(Redirect::to(&format!("/accounts/{}/spend{query}", member.account.slug)))
}

/// Gives one up.
pub async fn remove(
    member: Member,
    State(app): State<App>,
    Form(form): Form<HashMap<String, String>>,
) -> Result<Redirect, PageError> {
    desk::remove(&app.db, &member.account, member.person.id, field(&form, "name")).await?;
    Ok(Redirect::to(&format!("/accounts/{}/spend", member.account.slug)))
}
