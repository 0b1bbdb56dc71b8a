//! Which columns of a table of figures are shown, and in which order.

use tiller_desk::book::Book;
use tiller_desk::figure::Figure;
use tiller_desk::rows::Level;
use tower_sessions::Session;

use crate::error::PageError;
use crate::params::Params;

/// The columns that are shown on a page, in their order: those that were asked for, else those of last time, else the
/// usual ones. What is asked for is remembered.
pub async fn chosen(
    session: &Session,
    params: &Params,
    place: &str,
    book: &Book,
    level: Level,
    usual: impl Iterator<Item = &'static Figure>,
) -> Result<Vec<&'static Figure>, PageError> {
    // Another account looks at other figures: each keeps its own.
    let key = format!("{place}-columns-{}", book.account.id);
    let asked = params.text("columns");
    let chosen = if asked.is_empty() {
        session.get::<String>(&key).await?.unwrap_or_default()
    } else {
        session.insert(&key, asked).await?;
        asked.to_owned()
    };
    let named: Vec<&Figure> =
        chosen.split(',').filter_map(Figure::of).filter(|c| c.fits(level)).collect();
    Ok(if named.is_empty() { usual.collect() } else { named })
}
