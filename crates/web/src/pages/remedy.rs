//! The form that puts what the advice says in the tray, wherever that stands.

use tiller_core::spot::Subject;
use tiller_desk::budgets::weekly::{self, Move};
use tiller_desk::numerals::counted;
use tiller_desk::tray::offer::Offer;
use tiller_desk::tray::proposal::Proposal;

use crate::pages::figures_table::key;

/// What does what the advice says: a form that puts it in the tray.
pub struct Remedy {
    /// Where it is sent, below the account.
    pub to: &'static str,
    /// Its fields.
    pub fields: Vec<(&'static str, String)>,
    /// `Target CPA to 43.00`.
    pub text: String,
}

impl Remedy {
    /// One change.
    pub fn change(of: Subject, p: &Proposal) -> Self {
        let button = Offer::change(key(of), "", p.clone()).button();
        let fields = vec![("of", key(of)), ("take", button)];
        Self { to: "tray/remedy", fields, text: p.aim() }
    }

    /// The week's budgets: together, since what some get is what others give.
    pub fn budgets(moves: &[Move]) -> Self {
        Self {
            to: "budgets/advice",
            fields: moves.iter().map(|m| ("take", weekly::offer(m).button())).collect(),
            text: format!(
                "{} together",
                counted(moves.len() as u64, "daily budget", "daily budgets")
            ),
        }
    }
}
