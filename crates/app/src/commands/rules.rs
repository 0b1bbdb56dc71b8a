//! Rules over a report file: what they do as of a day, and what they would have done.

use std::io::{Read, Write};
use std::process::ExitCode;

use tiller_core::Target;
use tiller_desk::numerals::{count, counted, full_day, money};
use tiller_desk::report_file::Report;
use tiller_desk::rules::file::RulesFile;
use tiller_desk::rules::report::{
    self, ActionFile, RangeFile, RehearsalAnswer, RulesAnswer, RulesOverReportError,
};

use super::files::{open, target, unread};
use super::{BadInput, Rules, RulesOver};

pub fn run(command: &Rules) -> anyhow::Result<ExitCode> {
    match command {
        Rules::Check { over, as_of } => {
            let (file, report, target) = read(over)?;
            let answer = report::check(&file, &report, target, *as_of);
            tell(over, &answer.map_err(|e| wrong(over, &e))?, print_check)
        }
        Rules::Rehearse { over, from, to } => {
            let (file, report, target) = read(over)?;
            let answer = report::rehearsal(&file, &report, target, *from, *to);
            tell(over, &answer.map_err(|e| wrong(over, &e))?, print_rehearsal)
        }
    }
}

fn wrong(over: &RulesOver, error: &RulesOverReportError) -> BadInput {
    let file = match error {
        RulesOverReportError::Report(_) => &over.report,
        _ => &over.rules,
    };
    BadInput(format!("{}: {error}", file.display()))
}

fn read(over: &RulesOver) -> anyhow::Result<(RulesFile, Report, Option<Target>)> {
    let of_rules = |e: &dyn std::fmt::Display| BadInput(format!("{}: {e}", over.rules.display()));
    let mut text = String::new();
    open(&over.rules)?.read_to_string(&mut text).map_err(|e| of_rules(&e))?;
    let file = RulesFile::read(&text).map_err(|e| of_rules(&e))?;
    let report = Report::read(open(&over.report)?).map_err(|e| unread(&over.report, &e))?;
    let target = over.target.map(target).transpose()?;
    Ok((file, report, target))
}

fn tell<T: serde::Serialize>(
    over: &RulesOver,
    answer: &T,
    print: fn(&mut dyn Write, &T) -> std::io::Result<()>,
) -> anyhow::Result<ExitCode> {
    let mut out = std::io::stdout().lock();
    if over.json {
        serde_json::to_writer_pretty(&mut out, answer)?;
        writeln!(out)?;
    } else {
        print(&mut out, answer)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn place(a: &ActionFile) -> String {
    let parts = [&a.campaign, &a.ad_group, &a.item].into_iter().filter(|n| !n.is_empty());
    parts.map(String::as_str).collect::<Vec<_>>().join(" › ")
}

/// `bid 0.61`, `budget −20%`.
fn what(a: &ActionFile) -> String {
    match (a.to, a.by) {
        (Some(to), _) => format!("{} {}", a.action, money(to)),
        (None, Some(by)) => {
            let sign = if by < 0.0 { "−" } else { "+" };
            format!("{} {sign}{}%", a.action, tiller_desk::numerals::percent(by.abs()))
        }
        (None, None) => a.action.to_owned(),
    }
}

fn print_check(out: &mut dyn Write, answer: &RulesAnswer) -> std::io::Result<()> {
    let all = || answer.actions.iter().chain(&answer.custom);
    let width = all().map(|a| place(a).chars().count()).max().unwrap_or(0);
    for a in all() {
        let rule = a.rule.as_ref().map(|r| format!("{r}: ")).unwrap_or_default();
        writeln!(out, "{:<width$}  {:<12}  {rule}{}", place(a), what(a), a.because)?;
    }
    for s in &answer.spirals {
        writeln!(
            out,
            "{}: its bid sinks from {} to {}; {} above its average click would hold it",
            s.item,
            money(s.bid),
            money(s.rests_at),
            money(s.headroom_that_holds)
        )?;
    }
    Ok(())
}

fn range(r: &RangeFile, text: impl Fn(f64) -> String) -> String {
    if (r.high - r.low).abs() < 1e-9 {
        return text(r.mid);
    }
    format!("{} ({} to {})", text(r.mid), text(r.low), text(r.high))
}

fn print_rehearsal(out: &mut dyn Write, answer: &RehearsalAnswer) -> std::io::Result<()> {
    for rule in &answer.rules {
        writeln!(
            out,
            "{}: {} from {} to {}, {}; kept {}, lost {} conversions; {} right, {} by mistake",
            rule.rule,
            counted(rule.rounds as u64, "round", "rounds"),
            full_day(rule.from),
            full_day(rule.to),
            counted(rule.acts.len() as u64, "action", "actions"),
            range(&rule.kept, money),
            range(&rule.lost, count),
            counted(rule.right as u64, "pause", "pauses"),
            rule.mistakes
        )?;
        let width = rule.acts.iter().map(|a| place(&a.action).chars().count()).max().unwrap_or(0);
        for a in &rule.acts {
            writeln!(
                out,
                "  {}  {:<width$}  {:<12}  {}; kept {}",
                a.day,
                place(&a.action),
                what(&a.action),
                a.action.because,
                range(&a.kept, money)
            )?;
        }
    }
    Ok(())
}
