//! A custom rule in words.

use tiller_core::Price;
use tiller_core::custom_rule::condition::Join;
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Is, Metric, Over, Than, Things,
};
use tiller_core::ids::CampaignId;
use tiller_core::rule::Rule;

use super::shared::{when, within};
use super::{Line, Naming, Piece, amount, one, options, plain, say, share, typed};

/// What is compared, as a sentence says it.
pub(super) fn metric(metric: Metric) -> &'static str {
    match metric {
        Metric::Impressions => "impressions",
        Metric::Clicks => "clicks",
        Metric::Spend => "spend",
        Metric::Conversions => "conversions",
        Metric::Value => "revenue",
        Metric::Ctr => "CTR",
        Metric::Cpc => "CPC",
        Metric::Cvr => "CVR",
        Metric::Cpa => "CPA",
        Metric::Roas => "ROAS",
        Metric::Acos => "ACoS",
        Metric::Aov => "order value",
        Metric::Age => "days since it was first shown",
    }
}

/// Actions with the words for them; the second is told whether a number goes with it.
pub(super) const ACTIONS: [(&str, &str, bool); 9] = [
    ("pause", "pause it", false),
    ("resume", "resume it", false),
    ("bid_by", "change its bid by", true),
    ("bid_to", "set its bid to", true),
    ("budget_by", "change its budget by", true),
    ("budget_to", "set its budget to", true),
    ("target_by", "change its target by", true),
    ("exclude", "exclude it", false),
    ("tell", "tell me", false),
];

/// Whether a sentence speaks of several.
fn is_many(metric: Metric) -> bool {
    matches!(metric, Metric::Impressions | Metric::Clicks | Metric::Conversions | Metric::Age)
}

/// Whether a number of a metric is a share.
pub(super) fn is_share(metric: Metric) -> bool {
    matches!(metric, Metric::Ctr | Metric::Cvr | Metric::Acos)
}

/// So many times something.
type Times = fn(f64) -> Than;

/// What follows a number that is so many times something: as it is typed.
pub(super) const TIMES: [(&str, Times); 3] =
    [("target", Than::Target), ("peers", Than::Peers), ("before", Than::Before)];

fn number(clause: Clause) -> String {
    let times = |x: f64, of: &str| format!("{} × {of}", plain(x));
    match clause.than {
        Than::Value(x) if is_share(clause.metric) => share(x),
        Than::Value(x) => plain(x),
        Than::Target(x) => times(x, "target"),
        Than::Peers(x) => times(x, "peers"),
        Than::Before(x) => times(x, "before"),
    }
}

/// The number of an action, as it is typed, and its word.
fn action(action: Action) -> (&'static str, String) {
    let by = |x: f64| {
        let sign = if x < 0.0 { "−" } else { "+" };
        format!("{sign}{}", share(x.abs()))
    };
    match action {
        Action::Pause => ("pause", String::new()),
        Action::Resume => ("resume", String::new()),
        Action::BidBy(x) => ("bid_by", by(x)),
        Action::BidTo(x) => ("bid_to", amount(x.units())),
        Action::BudgetBy(x) => ("budget_by", by(x)),
        Action::BudgetTo(x) => ("budget_to", amount(x.units())),
        Action::TargetBy(x) => ("target_by", by(x)),
        Action::Exclude => ("exclude", String::new()),
        Action::Tell => ("tell", String::new()),
    }
}

/// `CPA over 14 settled days is above 2 × target`.
fn clause(clause: Clause, at: &str) -> Vec<Piece> {
    let metrics: Vec<_> =
        Metric::ALL.iter().map(|m| (m.word().to_owned(), metric(*m).to_owned())).collect();
    let is = options(&[
        (Is::Above.word(), "above"),
        (Is::Below.word(), "below"),
        (Is::AtLeast.word(), "at least"),
        (Is::AtMost.word(), "at most"),
    ]);
    let days = match clause.over {
        Over::Days(n) => n.to_string(),
        Over::Life => "all".into(),
    };
    vec![
        one(format!("{at}.metric"), "what is compared", clause.metric.word(), metrics),
        say(" over "),
        typed(format!("{at}.over"), "settled days; ‘all’ is since it was first shown", days),
        say(if is_many(clause.metric) { " settled days are " } else { " settled days is " }),
        one(format!("{at}.is"), "how it is compared", clause.is.word(), is),
        say(" "),
        typed(
            format!("{at}.number"),
            "number to compare with, or so many × target, × peers, × before",
            number(clause),
        ),
    ]
}

fn conditions(rule: &CustomRule<CampaignId>) -> Vec<Piece> {
    let word = |join| match join {
        Join::All => "and",
        Join::Any => "or",
    };
    let join = rule.when.join;
    let mut pieces = Vec::new();
    for (p, part) in rule.when.parts.iter().enumerate() {
        match p {
            0 => {}
            1 => {
                let both = options(&[("all", "and"), ("any", "or")]);
                let now = if join == Join::All { "all" } else { "any" };
                pieces.extend([
                    say(", "),
                    one("join", "whether all conditions have to hold, or one", now, both),
                    say(" "),
                ]);
            }
            _ => pieces.push(say(format!(", {} ", word(join)))),
        }
        let several = part.len() > 1;
        for (k, c) in part.iter().enumerate() {
            if k > 0 {
                pieces.push(say(format!(" {} ", word(join.other()))));
            } else if several && rule.when.parts.len() > 1 {
                pieces.push(say(if join == Join::All { "either " } else { "both " }));
            }
            pieces.extend(clause(*c, &format!("c{p}.{k}")));
        }
    }
    pieces
}

pub(super) fn lines(rule: &Rule, of: &CustomRule<CampaignId>, naming: &Naming) -> Vec<Line> {
    let things = options(&[
        (Things::Campaigns.word(), "campaign"),
        (Things::AdGroups.word(), "ad group"),
        (Things::Items.word(), "item"),
        (Things::Terms.word(), "search term"),
    ]);
    let mut lead = when(rule);
    lead.extend([
        say("for each "),
        one("things", "what it looks at", of.things.word(), things),
        say(if of.things == Things::Campaigns { " among " } else { " of " }),
        within(&of.within, naming),
        say(": if "),
    ]);
    lead.extend(conditions(of));
    let (word, number) = action(of.then);
    let actions = ACTIONS.iter().map(|(w, t, _)| ((*w).to_owned(), (*t).to_owned())).collect();
    lead.extend([say(", "), one("then", "what it does", word, actions)]);
    let numbered = ACTIONS.iter().any(|(w, _, numbered)| *w == word && *numbered);
    if numbered {
        lead.extend([say(" "), typed("then.number", "by how much, or to what", number)]);
    }
    lead.push(say("."));
    let mut lines = vec![Line { lead, parts: vec![] }, evidence(of), certainty(of)];
    if numbered {
        lines.push(bounds(of));
    }
    lines
}

fn evidence(of: &CustomRule<CampaignId>) -> Line {
    let count = |n: u32| if n > 0 { n.to_string() } else { String::new() };
    let spend = match of.evidence.spend {
        Some(Amount::Value(x)) => amount(x),
        Some(Amount::TimesTarget(times)) => format!("{} × target", plain(times)),
        None => String::new(),
    };
    let part = |name: &str, label: &str, value: String, after: &str| {
        vec![typed(name, label, value), say(after)]
    };
    Line {
        lead: vec![say("Only with at least ")],
        parts: vec![
            part("evidence.clicks", "least clicks", count(of.evidence.clicks), " clicks"),
            part("evidence.spend", "least spend: an amount, or so many × target", spend, " spent"),
            part(
                "evidence.conversions",
                "least conversions",
                count(of.evidence.conversions),
                " conversions",
            ),
            part(
                "evidence.days",
                "least settled days",
                count(of.evidence.days.into()),
                " settled days",
            ),
        ],
    }
}

fn certainty(of: &CustomRule<CampaignId>) -> Line {
    let sure = of.evidence.sure.map(share).unwrap_or_default();
    Line {
        lead: vec![say("Only when that is at least ")],
        parts: vec![vec![
            typed("evidence.sure", "how certain it has to be", sure),
            say(" certain"),
        ]],
    }
}

fn bounds(of: &CustomRule<CampaignId>) -> Line {
    let money = |m: Option<Price>| m.map(|m| amount(m.units())).unwrap_or_default();
    Line {
        lead: vec![say("It sets ")],
        parts: vec![
            vec![say("no less than "), typed("floor", "the least that it sets", money(of.floor))],
            vec![
                say("no more than "),
                typed("ceiling", "the most that it sets", money(of.ceiling)),
            ],
        ],
    }
}
