//! Advice as a page offers it. The button carries what was on the screen, so that nothing else goes to the tray: what is
//! advised when it is pressed is computed anew, and where it says something else the person decides again.

use std::collections::{HashMap, HashSet};
use std::fmt::Display;

use crate::DeskError;
use crate::tray::proposal::Proposal;

/// Something that a page offers to put in the tray.
#[derive(Clone, Debug)]
pub struct Offer<T> {
    id: String,
    name: String,
    says: String,
    what: T,
}

/// What proposals will set, as a page says it: compared in these words, two that differ by rounding are the same.
pub fn says<'a>(proposals: impl IntoIterator<Item = &'a Proposal>) -> String {
    let aims: Vec<String> = proposals.into_iter().map(Proposal::aim).collect();
    aims.join("; ")
}

impl Offer<Proposal> {
    /// A change.
    pub fn change(id: impl Display, name: &str, proposal: Proposal) -> Self {
        Self::new(id, name, says([&proposal]), proposal)
    }
}

impl<T> Offer<T> {
    /// Told from others by its id, with what it is of and what it says.
    pub fn new(id: impl Display, name: &str, says: String, what: T) -> Self {
        Self { id: id.to_string(), name: name.to_owned(), says, what }
    }

    /// What its button carries.
    pub fn button(&self) -> String {
        format!("{}: {}", self.id, self.says)
    }
}

/// What each button carries, by the id of what it offers.
pub fn buttons<T>(offers: &[Offer<T>]) -> HashMap<String, String> {
    offers.iter().map(|o| (o.id.clone(), o.button())).collect()
}

/// What the buttons that were pressed take of what is offered now.
pub fn taken<T>(buttons: &[String], offers: Vec<Offer<T>>) -> Result<Vec<T>, DeskError> {
    let standing: HashSet<String> = offers.iter().map(Offer::button).collect();
    if let Some(stale) = buttons.iter().find(|b| !standing.contains(*b)) {
        let (id, said) = stale.split_once(": ").unwrap_or((stale, ""));
        let (of, now) = match offers.iter().find(|o| o.id == id) {
            Some(o) => (format!(" on {}", o.name), format!("now says ‘{}’", o.says)),
            None => (String::new(), "nothing is advised there now".into()),
        };
        let said = if said.is_empty() { "nothing".into() } else { format!("‘{said}’") };
        return Err(DeskError::Invalid(format!(
            "the advice{of} has changed since this page was loaded: it said {said}, but {now}. Nothing was put in the tray; reload the page and decide again"
        )));
    }
    let pressed: HashSet<&String> = buttons.iter().collect();
    let chosen = offers.into_iter().filter(|o| pressed.contains(&o.button()));
    Ok(chosen.map(|o| o.what).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::ids::CampaignId;
    use tiller_core::setting::Setting;
    use tiller_core::spot::Subject;

    use crate::tray::proposal::Origin;

    fn offer(id: i64, bid: f64) -> Offer<Proposal> {
        let set = Setting::Bid(Some(Micros::from_units(bid)));
        let subject = Subject::Campaign(CampaignId(id));
        Offer::change(id, "Courses", Proposal::new(subject, set, Origin::Causes, "Because."))
    }

    #[test]
    fn only_what_was_on_the_screen_is_taken() {
        let now = || vec![offer(1, 0.50), offer(2, 1.7004)];
        let take = |buttons: &[&str]| {
            let buttons: Vec<String> = buttons.iter().map(|b| (*b).to_owned()).collect();
            taken(&buttons, now()).map(|p| p.len()).map_err(|e| e.to_string())
        };
        assert_eq!(take(&[&offer(1, 0.50).button()]), Ok(1));
        let near = offer(2, 1.7003).button();
        assert_eq!(take(&["1: Bid to 0.50", &near]), Ok(2), "rounding is no difference");
        assert_eq!(take(&[]), Ok(0));
        let changed = take(&["1: Bid to 0.50", "2: Bid to 0.80"]).unwrap_err();
        assert!(
            changed.contains("it said ‘Bid to 0.80’, but now says ‘Bid to 1.700’"),
            "{changed}"
        );
        assert!(changed.contains("advice on Courses has changed"), "{changed}");
        let gone = take(&["3: Bid to 0.80"]).unwrap_err();
        assert!(gone.contains("nothing is advised there now"), "{gone}");
        // A button that says nothing has shown nothing.
        assert!(take(&["1"]).unwrap_err().contains("now says ‘Bid to 0.50’"));
    }
}
