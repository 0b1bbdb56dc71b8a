//! What the lines of a plan are grouped by.

use tiller_core::allocation::Group;

use super::draft::entry_of;
use crate::account::settings::Settings;
use crate::book::{Book, Entry};
use crate::plans::file::PlanFile;

/// What lines are grouped by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupBy {
    /// Their channel.
    Channel,
    /// The country that they are meant for.
    Country,
}

/// Groups a plan's lines anew; the limits of groups of other names are lost.
pub fn group(file: &mut PlanFile, book: &Book, settings: Option<&Settings>, by: Option<GroupBy>) {
    let name = |e: &Entry| match by? {
        GroupBy::Channel => Some(e.campaign.channel.clone()),
        GroupBy::Country => {
            let places = settings?.campaign(e.campaign.id)?.places.as_ref();
            Some(match places.map_or(&[][..], |p| &p.targets) {
                [] => "everywhere".into(),
                [one] => one.clone(),
                [first, rest @ ..] => format!("{first} and {} more", rest.len()),
            })
        }
    };
    let mut groups: Vec<Group> = Vec::new();
    for line in &mut file.lines {
        line.group = entry_of(book, &line.id).and_then(name);
        if let Some(id) = line.group.as_ref().filter(|id| groups.iter().all(|g| g.id != **id)) {
            let before = file.groups.iter().find(|g| g.id == *id).cloned();
            groups.push(before.unwrap_or(Group { id: id.clone(), ..Group::default() }));
        }
    }
    file.groups = groups;
}

/// What a plan's lines are grouped by.
pub fn grouped_by(file: &PlanFile, book: &Book) -> Option<GroupBy> {
    let line = file.lines.iter().find(|l| l.group.is_some())?;
    let channel = entry_of(book, &line.id).map(|e| e.campaign.channel.as_str());
    if channel == line.group.as_deref() { Some(GroupBy::Channel) } else { Some(GroupBy::Country) }
}
