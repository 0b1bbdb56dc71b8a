//! One rule: its sentence, its thresholds from the campaign down, what it would do today, its runs and versions.

use std::collections::BTreeMap;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::bid_rule::Field as Threshold;
use tiller_core::custom_rule::{Clause, Is, Metric, Over, Than};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId, RuleId, RunId};
use tiller_core::rule::{Body, Rule};
use tiller_core::spot::Spot;
use tiller_desk::DeskError;
use tiller_desk::numerals::{counted, full_day};
use tiller_desk::rules::file::RulesFile;
use tiller_desk::rules::ground::Ground;
use tiller_desk::rules::keeping::{self, Ran, RuleKept, Standing, Version};
use tiller_desk::rules::rehearsal::pulls;
use tiller_desk::rules::run::{Look, Looked, look_now};
use tiller_desk::rules::sentence::{Naming, Sentence, Unread, Wrong, read, threshold};
use tiller_desk::rules::words;
use tiller_desk::rules::worth::{self, SoFar};
use tiller_desk::wording::as_sentence;

use super::sentence::{Bit, OpenLine, ReadLine, open_lines, read_lines};
use super::{came_to, moment, standing};
use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::{book_of_reports, download};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// As many rows as the tables show.
const MOST: usize = 300;

/// A run in the list.
pub struct RunLine {
    id: RunId,
    when: String,
    by: String,
    came_to: String,
    known: String,
    waited: String,
    undo: bool,
}

/// A version in the list.
pub struct VersionLine {
    version: i32,
    when: String,
    author: String,
    /// The words that it had, with those that the next older one did not have marked.
    words: Vec<(String, bool)>,
}

/// A row of the tree of thresholds.
pub struct TreeRow {
    key: String,
    name: String,
    depth: usize,
    /// Value, whether it is set here, where it comes from.
    cells: Vec<TreeCell>,
    would: String,
    because: String,
    tone: &'static str,
}

/// A threshold of a row.
pub struct TreeCell {
    field: &'static str,
    label: String,
    value: String,
    own: bool,
    from: String,
    wrong: String,
}

/// A thing of a custom rule, and what it would do about it today.
pub struct WouldRow {
    place: String,
    would: String,
    because: String,
    tone: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "rule.html")]
struct RulePage {
    frame: Frame,
    id: RuleId,
    name: String,
    name_wrong: String,
    standing: &'static str,
    note: String,
    next: String,
    worth: Option<String>,
    lines: Vec<OpenLine>,
    /// What is wrong with the whole.
    wrong: Vec<String>,
    /// Whether what is shown is not saved yet.
    unsaved: bool,
    custom: bool,
    /// Parts to which a further condition can be added.
    parts: usize,
    tried: Tried,
    pulls: Vec<String>,
    columns: Vec<&'static str>,
    tree: Vec<TreeRow>,
    tree_left: usize,
    rows: Vec<WouldRow>,
    rows_left: usize,
    runs: Vec<RunLine>,
    versions: Vec<VersionLine>,
    said: String,
}

impl RulePage {
    /// The thresholds that can be set on several places at once.
    fn fields() -> [(&'static str, &'static str); 6] {
        Threshold::ALL.map(|f| (f.word(), words::field(f)))
    }
}

/// What it would do today, in a sentence.
#[derive(Template, WebTemplate)]
#[template(path = "rule_tried.html")]
pub struct Tried {
    sentence: Vec<ReadLine>,
    wrong: Vec<String>,
    acts: String,
}

fn tone(looked: &Looked) -> &'static str {
    use tiller_core::custom_rule::Action;
    match (looked.acts(), looked.found.action) {
        (true, Some(Action::Pause | Action::Exclude)) => "harm",
        (true, _) => "plan",
        (false, _) => "quiet",
    }
}

fn acts(look: Option<&Look>) -> String {
    let Some(look) = look else { return String::new() };
    let (n, of) = (look.acts(), look.things.len());
    let waits = look.things.iter().filter(|l| l.held.is_none() && l.found.action.is_none()).count();
    let things = counted(of as u64, "thing", "things");
    let head = match (n, of) {
        (_, 0) => "Today nothing meets it.".to_owned(),
        (0, _) => format!("Today it would touch none of the {things} that it looks at."),
        (n, of) if n == of => format!("Today it would touch all of the {things} that it looks at."),
        (n, _) => format!("Today it would touch {n} of the {things} that it looks at."),
    };
    match waits {
        0 => head,
        n => format!("{head} {} for evidence.", counted(n as u64, "waits", "wait")),
    }
}

fn texts(wrong: &[Wrong]) -> Vec<String> {
    wrong.iter().map(|w| w.text.clone()).collect()
}

/// What the form holds, by the names of its places.
fn filled(fields: &Fields) -> impl Fn(&str) -> Vec<String> + '_ {
    |name: &str| fields.values(name).map(str::to_owned).collect()
}

/// What a page of a rule shows besides what is kept.
struct Shown<'a> {
    rule: &'a Rule,
    wrong: &'a [Wrong],
    unsaved: bool,
    said: String,
    /// The sentence with what was typed, where that is not what the rule says.
    typed: Option<Sentence>,
    /// Thresholds that could not be read, by place and field.
    limits: BTreeMap<(String, &'static str), (String, String)>,
}

async fn page(
    member: &Member,
    app: &App,
    params: &Params,
    kept: &RuleKept,
    shown: Shown<'_>,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, member, params).await?;
    let account = &member.account;
    let naming = keeping::naming(&book);
    let mut ground = Ground::load(&app.db, account)
        .await?
        .ok_or_else(|| PageError::NotFound("This account has no figures yet.".into()))?;
    let rule = shown.rule;
    let id = kept.row.id;
    let look = match shown.wrong {
        [] => Some(look_now(&app.db, &mut ground, rule, Some(id)).await?),
        _ => None,
    };
    let all = keeping::list(&app.db, account).await?;
    let pulls = pulls(&app.db, account, &ground, rule, &all, Some(id)).await?;
    let sentence = shown.typed.clone().unwrap_or_else(|| Sentence::of(rule, &naming));
    let (mut tree, mut rows) = (Vec::new(), Vec::new());
    match (&rule.body, &look) {
        (Body::Bid(_), Some(look)) => tree = tree_of(app, &ground, rule, look, &shown).await?,
        (Body::Custom(_), Some(look)) => rows = look.things.iter().map(would_row).collect(),
        _ => {}
    }
    let (tree_left, rows_left) = (tree.len().saturating_sub(MOST), rows.len().saturating_sub(MOST));
    tree.truncate(MOST);
    // What it touches comes first.
    rows.sort_by_key(|r: &WouldRow| r.tone == "quiet");
    rows.truncate(MOST);
    let runs = keeping::runs(&app.db, account, Some(id), 20).await?;
    let versions = keeping::versions(&app.db, account, id).await?;
    let of_whole = shown.wrong.iter().filter(|w| w.slot.is_empty() || w.slot == "name");
    let frame = Frame::new(member, Station::Rules, params);
    let custom = matches!(rule.body, Body::Custom(_));
    let columns = Threshold::ALL.into_iter().map(words::column).collect();
    let page = RulePage {
        id,
        name: rule.name.clone(),
        name_wrong: shown
            .wrong
            .iter()
            .find(|w| w.slot == "name")
            .map(|w| w.text.clone())
            .unwrap_or_default(),
        standing: standing(kept.row.state).0,
        note: kept.row.note.clone(),
        next: kept.row.next_due.map(|at| moment(at, account)).unwrap_or_default(),
        worth: worth::of_account(&app.db, &ground.book).await?.get(&id).and_then(SoFar::sentence),
        lines: open_lines(&sentence, shown.wrong),
        wrong: of_whole.map(|w| w.text.clone()).collect(),
        unsaved: shown.unsaved,
        custom,
        parts: match &rule.body {
            Body::Custom(of) => of.when.parts.len(),
            Body::Bid(_) => 0,
        },
        tried: Tried {
            sentence: read_lines(&sentence),
            wrong: texts(shown.wrong),
            acts: acts(look.as_ref()),
        },
        pulls,
        columns,
        tree,
        tree_left,
        rows,
        rows_left,
        runs: runs.iter().map(|r| run_line(r, member)).collect(),
        versions: version_lines(&versions, member),
        said: shown.said,
        frame,
    };
    let status =
        if shown.wrong.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, page).into_response())
}

fn would_row(l: &Looked) -> WouldRow {
    WouldRow {
        place: l.place.clone(),
        would: words::would(l),
        because: l.because.clone(),
        tone: tone(l),
    }
}

fn run_line(run: &Ran, member: &Member) -> RunLine {
    RunLine {
        id: run.id,
        when: moment(run.due_at, &member.account),
        by: run.asked_by.as_ref().map(|p| format!("asked for by {p}")).unwrap_or_default(),
        came_to: came_to(run),
        known: run.as_of.map(full_day).unwrap_or_default(),
        waited: match (run.waited, run.held, run.resting) {
            (0, 0, 0) => String::new(),
            (waited, held, resting) => {
                format!("{waited} for evidence, {held} for the day’s limits, {resting} at rest")
            }
        },
        undo: run.acted > 0 && !run.told,
    }
}

/// Versions with what is new in each against the one before it.
fn version_lines(versions: &[Version], member: &Member) -> Vec<VersionLine> {
    let line = |(n, v): (usize, &Version)| {
        let older = versions.get(n + 1).map(|o| o.told.split(' ').collect::<Vec<_>>());
        let words: Vec<&str> = v.told.split(' ').collect();
        let new = |at: usize, word: &str| {
            older
                .as_ref()
                .is_some_and(|o| o.get(at).is_none_or(|w| *w != word) && !o.contains(&word))
        };
        VersionLine {
            version: v.version,
            when: moment(v.created_at, &member.account),
            author: v.author.clone().unwrap_or_else(|| "somebody who has left".into()),
            words: words.iter().enumerate().map(|(at, w)| ((*w).to_owned(), new(at, w))).collect(),
        }
    };
    versions.iter().enumerate().map(line).collect()
}

/// A place as a form names it: `7`, `7.12`, `7.12.40`.
fn key(spot: Spot) -> String {
    let parts = [Some(spot.campaign.0), spot.ad_group.map(|g| g.0), spot.item.map(|i| i.0)];
    parts.into_iter().flatten().map(|n| n.to_string()).collect::<Vec<_>>().join(".")
}

fn spot(key: &str) -> Option<Spot> {
    let parts: Vec<i64> = key.split('.').map(|p| p.parse().ok()).collect::<Option<_>>()?;
    match parts[..] {
        [c] => Some(Spot::of(CampaignId(c))),
        [c, g] => Some(Spot::of(CampaignId(c)).ad_group(AdGroupId(g))),
        [c, g, i] => Some(Spot::of(CampaignId(c)).ad_group(AdGroupId(g)).item(ItemId(i))),
        _ => None,
    }
}

/// The thresholds from the campaigns down: every place with something counted or something set.
async fn tree_of(
    app: &App,
    ground: &Ground,
    rule: &Rule,
    look: &Look,
    shown: &Shown<'_>,
) -> Result<Vec<TreeRow>, PageError> {
    let Body::Bid(of) = &rule.body else { return Ok(Vec::new()) };
    let names = ground.names(&app.db).await?;
    let mut places: BTreeMap<Vec<String>, Spot> = BTreeMap::new();
    let counted = look.things.iter().map(|l| l.spot);
    for at in counted.chain(of.limits.refined().map(|(s, _)| s)) {
        for s in std::iter::successors(Some(at), |s| s.up()) {
            let scope = names.scope(s);
            let way = [scope.campaign, scope.ad_group, scope.item].into_iter().flatten();
            // Things of one name are parted by their numbers.
            places.insert(way.chain([key(s)]).collect(), s);
        }
    }
    let by_spot: std::collections::HashMap<Spot, &Looked> =
        look.things.iter().map(|l| (l.spot, l)).collect();
    let mut ordered: Vec<(Vec<String>, Spot)> = places.into_iter().collect();
    // A place comes before what lies in it.
    ordered.sort_by(|(a, _), (b, _)| a[..a.len() - 1].cmp(&b[..b.len() - 1]).then(a.cmp(b)));
    let row = |(way, s): (Vec<String>, Spot)| {
        let held = of.limits.at(s);
        let own = of.limits.own(s);
        let looked = by_spot.get(&s);
        let depth = way.len() - 2;
        let cell = |f: Threshold| {
            let typed = shown.limits.get(&(key(s), f.word()));
            let source = of.limits.source(s, f).flatten();
            TreeCell {
                field: f.word(),
                label: format!("{}, {}", words::field(f), way[depth]),
                value: typed.map_or_else(|| words::value(f, &held), |(text, _)| text.clone()),
                own: own.has(f),
                from: match source {
                    Some(at) if at == s => "set here".into(),
                    Some(at) => format!("from {}", names.place(at)),
                    None => "from the rule".into(),
                },
                wrong: typed.map(|(_, why)| why.clone()).unwrap_or_default(),
            }
        };
        TreeRow {
            key: key(s),
            name: way[depth].clone(),
            depth,
            cells: Threshold::ALL.into_iter().map(cell).collect(),
            would: looked.map(|l| words::would(l)).unwrap_or_default(),
            because: looked.map(|l| l.because.clone()).unwrap_or_default(),
            tone: looked.map_or("quiet", |l| tone(l)),
        }
    };
    Ok(ordered.into_iter().map(row).collect())
}

fn as_kept(kept: &RuleKept) -> Shown<'_> {
    Shown {
        rule: &kept.rule,
        wrong: &[],
        unsaved: false,
        said: String::new(),
        typed: None,
        limits: BTreeMap::new(),
    }
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<RuleId>,
    params: Params,
) -> Result<Response, PageError> {
    let kept = keeping::one(&app.db, &member.account, id).await?;
    page(&member, &app, &params, &kept, as_kept(&kept)).await
}

async fn naming(sent: &Sent) -> Result<Naming, PageError> {
    let book = book_of_reports(&sent.app.db, &sent.member, &sent.params).await?;
    Ok(keeping::naming(&book))
}

/// Saves what the sentence says; or adds a condition to it, which is not saved before it is filled in.
pub async fn save(Id(id): Id<RuleId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let kept = keeping::one(&app.db, &member.account, id).await?;
    let mut rule = match read(&kept.rule, &filled(fields)) {
        Ok(rule) => rule,
        Err(unread) => return with_wrong(&sent, &kept, &unread).await,
    };
    if let Some(add) = fields.get("add") {
        let added = add_condition(&mut rule, add);
        let said = if added {
            "Fill in the new condition, then save."
        } else {
            "A rule has at most six conditions."
        };
        let shown = Shown { rule: &rule, unsaved: true, said: said.into(), ..as_kept(&kept) };
        return page(member, app, params, &kept, shown).await;
    }
    let naming = naming(&sent).await?;
    match keeping::save(&app.db, &member.account, sent.person(), &kept, &rule, &naming).await {
        Ok(()) => Ok(sent.on_to(&format!("rules/{id}")).into_response()),
        Err(DeskError::Invalid(why)) => {
            let wrong = [Wrong { slot: String::new(), text: as_sentence(&why) }];
            let shown = Shown { rule: &rule, wrong: &wrong, unsaved: true, ..as_kept(&kept) };
            page(member, app, params, &kept, shown).await
        }
        Err(other) => Err(other.into()),
    }
}

/// The page again, with what was typed as it was typed, and what is wrong at its place.
async fn with_wrong(sent: &Sent, kept: &RuleKept, unread: &Unread) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = sent;
    let mut typed = Sentence::of(&unread.rule, &naming(sent).await?);
    typed.fill(&filled(fields));
    let shown = Shown {
        rule: &unread.rule,
        wrong: &unread.wrong,
        unsaved: true,
        typed: Some(typed),
        ..as_kept(kept)
    };
    page(member, app, params, kept, shown).await
}

/// Adds a condition: `and` as a part of its own, or a number to that part.
fn add_condition(rule: &mut Rule, to: &str) -> bool {
    let Body::Custom(of) = &mut rule.body else { return false };
    if of.when.clauses().count() >= tiller_core::custom_rule::condition::MOST {
        return false;
    }
    let new = Clause {
        metric: Metric::Spend,
        over: Over::Days(14),
        is: Is::Above,
        than: Than::Value(0.0),
    };
    match to.parse::<usize>().ok().filter(|n| *n < of.when.parts.len()) {
        Some(part) => of.when.parts[part].push(new),
        None => of.when.parts.push(vec![new]),
    }
    true
}

/// What the sentence as it is filled in now says, and how many things it would touch today.
pub async fn try_out(Id(id): Id<RuleId>, sent: Sent) -> Result<Tried, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let kept = keeping::one(&app.db, &member.account, id).await?;
    match read(&kept.rule, &filled(fields)) {
        Err(unread) => {
            Ok(Tried { sentence: Vec::new(), wrong: texts(&unread.wrong), acts: String::new() })
        }
        Ok(rule) => {
            let sentence = read_lines(&Sentence::of(&rule, &naming(&sent).await?));
            let ground = Ground::load(&app.db, &member.account).await?;
            let look = match ground {
                Some(mut ground) => Some(look_now(&app.db, &mut ground, &rule, Some(id)).await?),
                None => None,
            };
            Ok(Tried { sentence, wrong: Vec::new(), acts: acts(look.as_ref()) })
        }
    }
}

/// Sets thresholds of places below the rule: each of its own, or one for all that are chosen; empty gives back what is
/// inherited.
pub async fn set_limits(Id(id): Id<RuleId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let kept = keeping::one(&app.db, &member.account, id).await?;
    let mut rule = kept.rule.clone();
    let Body::Bid(of) = &mut rule.body else {
        return Err(PageError::Invalid("Only a bid rule has thresholds.".into()));
    };
    let ground = Ground::load(&app.db, &member.account).await?;
    let mut wrong = BTreeMap::new();
    let mut set = |key_text: &str, f: Threshold, text: &str| {
        let Some(s) = spot(key_text) else { return };
        let known = ground.as_ref().is_some_and(|g| g.book.entry(s.campaign).is_ok());
        if !known {
            return;
        }
        match threshold(f, text) {
            Ok(limits) if text.trim().is_empty() => {
                let _ = limits;
                let own = of.limits.own(s).without(f);
                of.limits.set(s, own);
            }
            Ok(limits) => {
                let own = limits.or(of.limits.own(s));
                of.limits.set(s, own);
            }
            Err(why) => {
                wrong.insert((key_text.to_owned(), f.word()), (text.to_owned(), why));
            }
        }
    };
    let chosen: Vec<&str> = fields.values("choose").collect();
    match (Threshold::read(fields.text("field")), chosen.is_empty()) {
        (Some(field), false) => {
            for place in &chosen {
                set(place, field, fields.text("value"));
            }
        }
        _ => {
            for (name, text) in fields.iter() {
                // Only what was changed is set: what stands there as it is inherited stays so.
                let Some((place, word)) = name.split_once('/') else { continue };
                let Some(field) = Threshold::read(word) else { continue };
                let was = fields.text(&format!("{name}/was"));
                if text.trim() != was {
                    set(place, field, text);
                }
            }
        }
    }
    if !wrong.is_empty() {
        let said = "Nothing was changed: what can’t be read is marked.".to_owned();
        let shown = Shown { limits: wrong, said, ..as_kept(&kept) };
        let mut answer = page(member, app, params, &kept, shown).await?;
        *answer.status_mut() = StatusCode::UNPROCESSABLE_ENTITY;
        return Ok(answer);
    }
    keeping::save(&app.db, &member.account, sent.person(), &kept, &rule, &naming(&sent).await?)
        .await?;
    Ok(sent.on_to(&format!("rules/{id}")).into_response())
}

/// Switches a rule on or off, or removes it.
pub async fn switch(Id(id): Id<RuleId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let word = fields.text("to");
    let to = Standing::read(word).filter(|s| *s != Standing::Suspended).ok_or_else(|| {
        PageError::Invalid(format!("‘{word}’ is nothing that a rule can be switched to."))
    })?;
    keeping::switch(&app.db, &member.account, id, to).await?;
    Ok(match to {
        Standing::Removed => sent.on_to("rules"),
        _ => sent.on_to(&format!("rules/{id}")),
    })
}

/// Runs a rule now.
pub async fn run(Id(id): Id<RuleId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, .. } = &sent;
    let run = keeping::ask(&app.db, &member.account, sent.person(), id).await?;
    app.wake.rules.notify_one();
    Ok(sent.on_to(&format!("rules/runs/{run}")))
}

/// A rule as a file.
pub async fn json(
    member: Member,
    State(app): State<App>,
    Id(id): Id<RuleId>,
) -> Result<Response, PageError> {
    let kept = keeping::one(&app.db, &member.account, id).await?;
    let ground = Ground::load(&app.db, &member.account).await?;
    let names = match &ground {
        Some(ground) => ground.names(&app.db).await?,
        None => tiller_desk::rules::file::Names::default(),
    };
    let account = &member.account;
    let file = RulesFile::of(&kept.rule, &account.currency, account.settle_days(), &names);
    let text =
        serde_json::to_string_pretty(&file).map_err(|e| PageError::Internal(e.to_string()))?;
    Ok(download("application/json", &format!("{}.rules.json", kept.rule.name), text + "\n"))
}
