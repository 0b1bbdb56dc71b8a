//! Commands over files: no database, no server.

use std::io::{Read, Write};
use std::path::Path;
use std::process::ExitCode;

use tiller_channel::report::Column;
use tiller_channel::wire::SegmentRow;
use tiller_core::Target;
use tiller_core::allocation::{Answer, solve};
use tiller_desk::bids::file::{BidsFile, CampaignFile, Question as BidsQuestion};
use tiller_desk::causes::file::{DiagnosisFile, Question, SegmentFile};
use tiller_desk::numerals::{money, number, or_absent, percent, probability, signed};
use tiller_desk::plans::answer::{self, AnswerFile};
use tiller_desk::plans::file::PlanFile;
use tiller_desk::report_file::{Report, ReportError, row_error};
use tiller_desk::rules::file::RulesFile;
use tiller_desk::rules::report::{RehearsalAnswer, RulesAnswer};

use super::{Allocate, BadInput, Bids, Diagnose, TargetArgs};

/// Valid but impossible.
const IMPOSSIBLE: u8 = 3;

/// A file, or standard input for `-`.
pub fn open(path: &Path) -> anyhow::Result<Box<dyn Read>> {
    if path.as_os_str() == "-" {
        return Ok(Box::new(std::io::stdin().lock()));
    }
    let file =
        std::fs::File::open(path).map_err(|e| BadInput(format!("{}: {e}", path.display())))?;
    Ok(Box::new(file))
}

pub fn allocate(args: &Allocate) -> anyhow::Result<ExitCode> {
    let mut text = String::new();
    open(&args.plan)?
        .read_to_string(&mut text)
        .map_err(|e| BadInput(format!("{}: {e}", args.plan.display())))?;
    let file =
        PlanFile::read(&text).map_err(|e| BadInput(format!("{}: {e}", args.plan.display())))?;
    let problem = file.problem();
    let answer = solve(&problem);
    let answer_file = answer::answer_file(&problem, &answer);
    let mut out = std::io::stdout().lock();
    if args.json {
        serde_json::to_writer_pretty(&mut out, &answer_file)?;
        writeln!(out)?;
    } else {
        print_answer(&mut out, &file, &answer, &answer_file)?;
    }
    Ok(if matches!(answer, Answer::Optimal(_)) {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(IMPOSSIBLE)
    })
}

fn print_answer(
    out: &mut impl Write,
    file: &PlanFile,
    answer: &Answer,
    shown: &AnswerFile,
) -> anyhow::Result<()> {
    match answer {
        Answer::Optimal(s) => {
            let width = file.lines.iter().map(|l| l.id.chars().count()).max().unwrap_or(4).max(5);
            writeln!(
                out,
                "{:<width$}  {:>12}  {:>12}  {:>11}  {:>9}  limit",
                "line", "present", "budget", "conversions", "marginal"
            )?;
            for (line, a) in file.lines.iter().zip(&s.lines) {
                let held = answer::held_word(a.held_by).replace('_', " ");
                writeln!(
                    out,
                    "{:<width$}  {:>12}  {:>12}  {:>11}  {:>9}  {held}",
                    line.id,
                    money(line.current),
                    money(a.budget),
                    number(a.conversions, 1),
                    number(a.marginal, 4)
                )?;
            }
            writeln!(
                out,
                "{:<width$}  {:>12}  {:>12}  {:>11}",
                "total",
                money(s.current.budget),
                money(s.totals.budget),
                number(s.totals.conversions, 1)
            )?;
            writeln!(
                out,
                "CPA {}, ROAS {}",
                or_absent(s.totals.cpa(), money),
                or_absent(s.totals.roas(), |r| number(r, 2))
            )?;
        }
        Answer::Infeasible { .. } => writeln!(out, "The limits contradict each other.")?,
    }
    match shown {
        AnswerFile::Optimal { warnings, .. } => {
            warnings.iter().try_for_each(|w| writeln!(out, "Note: {}", w.message))?
        }
        AnswerFile::Infeasible { conflicts, repairs } => {
            conflicts.iter().try_for_each(|c| writeln!(out, "- {}", c.message))?;
            repairs.iter().try_for_each(|r| writeln!(out, "  One way out: {}", r.message))?;
        }
    }
    Ok(())
}

/// The one target of a command.
pub fn target(of: TargetArgs) -> anyhow::Result<Target> {
    let target =
        Target::given(of.target_cpa, of.target_roas).ok().flatten().filter(|t| t.number() < 1e9);
    let say = "the target is a number above 0 and below a thousand million, such as 30";
    Ok(target.ok_or_else(|| BadInput(say.into()))?)
}

/// What is wrong with a report; its first bad rows are named.
pub fn unread(report: &Path, error: &ReportError) -> BadInput {
    if let ReportError::Rows(rows) = error {
        rows.iter().take(20).for_each(|r| eprintln!("{}", row_error(r)));
    }
    BadInput(format!("{}: {error}", report.display()))
}

pub fn diagnose(args: &Diagnose) -> anyhow::Result<ExitCode> {
    let target = target(args.target)?;
    let segments = match &args.segments {
        Some(path) => SegmentRow::read_all(open(path)?)
            .map_err(|e| BadInput(format!("{}: {e}", path.display())))?,
        None => Vec::new(),
    };
    let question = Question {
        campaign: args.campaign.clone(),
        ad_group: args.ad_group.clone(),
        target,
        from: args.from,
        to: args.to,
        launched: args.launched,
        segments,
    };
    let bad = |e| unread(&args.report, &e);
    let answer =
        Report::read(open(&args.report)?).and_then(|r| r.diagnose(&question)).map_err(bad)?;
    let mut out = std::io::stdout().lock();
    if args.json {
        serde_json::to_writer_pretty(&mut out, &answer)?;
        writeln!(out)?;
    } else {
        print_diagnosis(&mut out, &answer)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn print_diagnosis(out: &mut impl Write, a: &DiagnosisFile) -> anyhow::Result<()> {
    a.because.iter().try_for_each(|line| writeln!(out, "{line}"))?;
    let f = &a.figures;
    let rate = |x: Option<f64>| or_absent(x, |x| format!("{}%", percent(x)));
    let cost = |x: Option<f64>| or_absent(x, money);
    writeln!(out)?;
    writeln!(out, "{:<22}{:>12}{:>12}", "", "this one", format!("{} peers", a.peers.campaigns))?;
    writeln!(out, "{:<22}{:>12}{:>12}", "click-through rate", rate(f.ctr), rate(a.peers.ctr))?;
    writeln!(out, "{:<22}{:>12}{:>12}", "cost per click", cost(f.cpc), cost(a.peers.cpc))?;
    writeln!(out, "{:<22}{:>12}{:>12}", "conversion rate", rate(f.cvr), rate(a.peers.cvr))?;
    writeln!(out, "{:<22}{:>12}{:>12}", "cost per conversion", cost(f.cpa), cost(a.peers.cpa))?;
    writeln!(out)?;
    writeln!(
        out,
        "affordable CPC {} (clicks rounded up {}), halfway {}",
        cost(f.affordable_cpc),
        cost(f.affordable_cpc_cautious),
        cost(f.halfway_bid)
    )?;
    writeln!(
        out,
        "excess {}, above target with a probability of {}",
        money(f.excess),
        or_absent(f.p_over_target, probability)
    )?;
    print_segments(out, &a.segments)
}

fn print_segments(out: &mut impl Write, all: &[SegmentFile]) -> anyhow::Result<()> {
    if all.is_empty() {
        return Ok(());
    }
    writeln!(out)?;
    writeln!(
        out,
        "{:<11}{:<20}{:>10}{:>13}{:>10}{:>8}  proposal",
        "by", "segment", "spend", "conversions", "excess", "ratio"
    )?;
    for s in all {
        let proposal = s.adjustment.map_or_else(
            || s.proposal.to_owned(),
            |by| format!("bid {}%", signed(by * 100.0, |x| number(x, 0))),
        );
        writeln!(
            out,
            "{:<11}{:<20}{:>10}{:>13}{:>10}{:>8}  {proposal}",
            s.dimension,
            s.segment,
            money(s.spend),
            number(s.conversions, 0),
            signed(s.excess, |x| number(x, 0)),
            number(s.ratio, 2)
        )?;
    }
    Ok(())
}

pub fn formats(folder: &Path) -> anyhow::Result<ExitCode> {
    std::fs::create_dir_all(folder)?;
    for (name, text) in schemas()? {
        std::fs::write(folder.join(name), text)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// Every format's schema with its file name.
fn schemas() -> anyhow::Result<Vec<(&'static str, String)>> {
    let json = |schema: schemars::Schema| serde_json::to_string_pretty(&schema).map(|t| t + "\n");
    Ok(vec![
        ("plan.schema.json", json(schemars::schema_for!(PlanFile))?),
        ("plan-answer.schema.json", json(schemars::schema_for!(AnswerFile))?),
        ("diagnosis.schema.json", json(schemars::schema_for!(DiagnosisFile))?),
        ("bids.schema.json", json(schemars::schema_for!(BidsFile))?),
        ("rules.schema.json", json(schemars::schema_for!(RulesFile))?),
        ("rules-answer.schema.json", json(schemars::schema_for!(RulesAnswer))?),
        ("rehearsal.schema.json", json(schemars::schema_for!(RehearsalAnswer))?),
        ("report.table-schema.json", serde_json::to_string_pretty(&table_schema())? + "\n"),
        (
            "channel.openapi.json",
            serde_json::to_string_pretty(&tiller_market::http::openapi())? + "\n",
        ),
    ])
}

/// The report as a Table Schema (Frictionless).
fn table_schema() -> serde_json::Value {
    let field = |c: &Column| {
        let kind = match c {
            Column::Date => "date",
            Column::Impressions | Column::Clicks => "integer",
            Column::Spend
            | Column::Conversions
            | Column::Value
            | Column::Bid
            | Column::Budget
            | Column::TargetCpa
            | Column::TargetRoas
            | Column::LostToBudget
            | Column::LostToBid => "number",
            _ => "string",
        };
        let allowed = match c {
            Column::Kind => Some(vec!["keyword", "listing", "ad", "audience"]),
            Column::MatchType => Some(vec!["exact", "phrase", "broad"]),
            Column::Status => Some(vec!["active", "paused", "ended"]),
            _ => None,
        };
        let mut constraints = serde_json::json!({ "required": c.required() });
        if let Some(allowed) = allowed {
            constraints["enum"] = allowed.into();
        }
        serde_json::json!({ "name": c.name(), "title": c.title(), "type": kind, "constraints": constraints })
    };
    serde_json::json!({
        "$schema": "https://datapackage.org/profiles/2.0/tableschema.json",
        "fields": Column::ALL.iter().map(field).collect::<Vec<_>>(),
        "primaryKey": ["date", "channel", "campaign", "ad_group", "kind", "item", "match_type"],
    })
}

pub fn bids(args: &Bids) -> anyhow::Result<ExitCode> {
    let question = BidsQuestion {
        campaign: args.campaign.clone(),
        target: target(args.target)?,
        from: args.from,
        to: args.to,
        look_backs: args.look_backs,
    };
    let bad = |e| unread(&args.report, &e);
    let answer = Report::read(open(&args.report)?).and_then(|r| r.bids(&question)).map_err(bad)?;
    let mut out = std::io::stdout().lock();
    if args.json {
        serde_json::to_writer_pretty(&mut out, &answer)?;
        writeln!(out)?;
    } else {
        print_bids(&mut out, &answer)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn print_bids(out: &mut impl Write, a: &BidsFile) -> anyhow::Result<()> {
    let long = |c: &CampaignFile| c.campaign.chars().count();
    let width = a.campaigns.iter().map(long).max().unwrap_or(8).max(8);
    writeln!(
        out,
        "{:<width$}  {:>9}  {:>10}  {:>9}  {:>7}  strategy",
        "campaign", "paid CPC", "affordable", "halfway", "limit"
    )?;
    for c in &a.campaigns {
        let price = |x: Option<f64>| or_absent(x, money);
        writeln!(
            out,
            "{:<width$}  {:>9}  {:>10}  {:>9}  {:>7}  {}",
            c.campaign,
            price(c.paid_cpc),
            price(c.affordable_cpc_cautious),
            price(c.halfway_bid),
            c.held_by,
            c.advice.first().map_or("", |x| x.strategy).replace('_', " ")
        )?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_committed_schemas_are_fresh() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats");
        for (name, text) in schemas().unwrap() {
            let there = std::fs::read_to_string(folder.join(name)).unwrap_or_default();
            assert_eq!(there, text, "{name}: run `gold-tiller formats docs/formats` and commit it");
        }
    }
}
