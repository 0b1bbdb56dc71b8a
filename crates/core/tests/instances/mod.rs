//! Random allocation problems, and what any answer to them has to keep.
#![allow(dead_code, clippy::unwrap_used, clippy::expect_used)]

use tiller_core::allocation::{
    Answer, Goal, Group, Limits, Line, Problem, Response, Solved, Total, Use,
};

/// A small generator of our own, so that a seed names an instance for good: xorshift64* (Vigna 2016).
pub struct Random(u64);

impl Random {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }
    pub fn next(&mut self) -> f64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 11) as f64 / (1u64 << 53) as f64
    }
    pub fn between(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * self.next()
    }
    fn chance(&mut self, p: f64) -> bool {
        self.next() < p
    }

    pub fn constant(&mut self) -> Response {
        Response::Constant { cpc: self.between(0.3, 6.0), cvr: self.between(0.005, 0.2) }
    }
    pub fn power(&mut self) -> Response {
        Response::Power { scale: self.between(0.05, 3.0), elasticity: self.between(0.15, 0.92) }
    }
    pub fn saturating(&mut self) -> Response {
        Response::Saturating { limit: self.between(1.0, 60.0), half_at: self.between(10.0, 400.0) }
    }

    fn lines(&mut self, n: usize, mut response: impl FnMut(&mut Self) -> Response) -> Vec<Line> {
        (0..n)
            .map(|i| {
                let current = self.between(5.0, 200.0);
                let floor = if self.chance(0.3) { self.between(0.0, 0.5) * current } else { 0.0 };
                Line {
                    id: format!("line {i}"),
                    group: None,
                    current,
                    value_per_conversion: Some(self.between(10.0, 120.0)),
                    margin: Some(self.between(0.2, 0.9)),
                    cpc: Some(self.between(0.3, 4.0)),
                    response: response(self),
                    floor,
                    ceiling: if self.chance(0.4) {
                        Some(floor + self.between(0.2, 2.0) * current)
                    } else {
                        None
                    },
                    fixed: None,
                    capacity: None,
                    precision: None,
                }
            })
            .collect()
    }

    /// Two groups, one of them with a group inside.
    fn grouped(&mut self, mut lines: Vec<Line>) -> (Vec<Line>, Vec<Group>) {
        let names = ["a", "b", "c"];
        for line in &mut lines {
            let pick = (self.next() * 4.0) as usize;
            line.group = names.get(pick).map(|n| (*n).to_owned());
        }
        let sum = |name: &str| {
            lines
                .iter()
                .filter(|l| l.group.as_deref() == Some(name))
                .map(|l| l.current)
                .sum::<f64>()
        };
        let mut group = |id: &str, parent: Option<&str>, of: f64| Group {
            id: id.into(),
            parent: parent.map(str::to_owned),
            floor: if self.chance(0.5) { Some(self.between(0.0, 0.6) * of) } else { None },
            ceiling: if self.chance(0.5) { Some(self.between(0.7, 1.6) * of) } else { None },
            ..Group::default()
        };
        let groups = vec![
            group("a", None, sum("a") + sum("c")),
            group("b", None, sum("b")),
            group("c", Some("a"), sum("c")),
        ];
        (lines, groups)
    }

    fn problem(&mut self, lines: Vec<Line>) -> Problem {
        let (lines, groups) = self.grouped(lines);
        let present: f64 = lines.iter().map(|l| l.current).sum();
        let spend = if self.chance(0.5) { Use::All } else { Use::UpTo };
        Problem {
            goal: Goal::Conversions,
            total: Total { amount: present * self.between(0.7, 1.4), spend },
            step: 0.0,
            days: 1.0,
            noise: None,
            lines,
            groups,
            limits: Limits {
                max_change: if self.chance(0.3) { Some(self.between(0.2, 0.8)) } else { None },
                ..Limits::default()
            },
        }
    }

    pub fn constant_problem(&mut self) -> Problem {
        let lines = self.lines(12, Self::constant);
        let mut p = self.problem(lines);
        if self.chance(0.4) {
            p.limits.max_cpa = Some(self.between(15.0, 80.0));
        }
        p
    }

    pub fn mixed_problem(&mut self) -> Problem {
        let lines = self.lines(14, |r| match (r.next() * 3.0) as usize {
            0 => r.constant(),
            1 => r.power(),
            _ => r.saturating(),
        });
        let mut p = self.problem(lines);
        p.days = if self.chance(0.5) { 28.0 } else { 1.0 };
        let kind = self.next();
        if kind < 0.3 {
            p.goal = Goal::Value;
        } else if kind < 0.5 {
            p.limits.max_cpa = Some(self.between(8.0, 40.0));
        }
        p
    }

    /// Most clicks, within limits on what a conversion costs, returns, or how many there are.
    pub fn click_problem(&mut self) -> Problem {
        let mut p = self.mixed_problem();
        p.goal = Goal::Clicks;
        // Of straight lines the response tells what a click costs.
        for line in &mut p.lines {
            line.cpc = line.cost_per_click();
        }
        p.limits = Limits { max_change: p.limits.max_change, ..Limits::default() };
        match (self.next() * 3.0) as usize {
            0 => p.limits.max_cpa = Some(self.between(8.0, 40.0)),
            1 => p.limits.min_roas = Some(self.between(0.5, 6.0)),
            _ => p.limits.min_conversions = Some(p.days * self.between(5.0, 60.0)),
        }
        p
    }

    /// Every kind of limit at once: capacities, fixed amounts, shares of the total, a CPA or a ROAS about as good as
    /// the present one, for each goal that splits a sum.
    fn limited(&mut self, lines: Vec<Line>) -> Problem {
        let mut p = self.problem(lines);
        p.days = if self.chance(0.5) { 30.4 } else { 1.0 };
        for line in &mut p.lines {
            line.cpc = line.cost_per_click();
            // Some can spend less than they spend now, or than they are to get at least.
            line.capacity =
                self.chance(0.4).then(|| self.between(0.4, 3.0) * line.current / p.days);
            line.fixed = self.chance(0.1).then(|| self.between(0.3, 1.4) * line.current);
        }
        let all: f64 = p.lines.iter().map(|l| l.current).sum();
        for g in &mut p.groups {
            (g.floor, g.ceiling) = (None, None);
        }
        let shares: Vec<f64> = ["a", "b", "c"]
            .iter()
            .map(|g| members(&p, g).iter().map(|&i| p.lines[i].current).sum::<f64>() / all)
            .collect();
        for (g, share) in p.groups.iter_mut().zip(shares) {
            g.share_floor = self.chance(0.5).then(|| self.between(0.1, 0.7) * share);
            g.share_ceiling = self.chance(0.5).then(|| (self.between(0.8, 1.6) * share).min(1.0));
        }
        p.total.spend = if self.chance(0.25) { Use::All } else { Use::UpTo };
        p.goal = match (self.next() * 4.0) as usize {
            0 => Goal::Conversions,
            1 => Goal::Value,
            2 => Goal::Clicks,
            _ => Goal::Profit,
        };
        let now = |of: &dyn Fn(&Line) -> f64| p.lines.iter().map(of).sum::<f64>();
        let conversions = now(&|l| l.results(l.current, p.days));
        let value = now(&|l| l.results(l.current, p.days) * l.value_per_conversion.unwrap());
        match (self.next() * 3.0) as usize {
            0 => p.limits.min_roas = Some(self.between(0.6, 1.2) * value / all),
            1 => p.limits.max_cpa = Some(self.between(0.8, 1.5) * all / conversions),
            _ => {}
        }
        p
    }

    /// Straight lines with every kind of limit.
    pub fn limited_constant_problem(&mut self) -> Problem {
        let lines = self.lines(12, Self::constant);
        self.limited(lines)
    }

    /// Curves and straight lines with every kind of limit.
    pub fn limited_mixed_problem(&mut self) -> Problem {
        let lines = self.lines(12, |r| match (r.next() * 3.0) as usize {
            0 => r.constant(),
            1 => r.power(),
            _ => r.saturating(),
        });
        self.limited(lines)
    }

    /// The least money for about as many conversions as there are, with every kind of limit.
    pub fn least_spend_problem(&mut self) -> Problem {
        let mut p = self.limited_mixed_problem();
        let now: f64 = p.lines.iter().map(|l| l.results(l.current, p.days)).sum();
        p.goal = Goal::LeastSpend;
        p.limits.min_conversions = Some(now * self.between(0.3, 1.1));
        p
    }

    /// A few lines in steps so coarse that every split can be tried.
    pub fn coarse_problem(&mut self) -> Problem {
        let lines = self.lines(5, |r| match (r.next() * 3.0) as usize {
            0 => r.constant(),
            1 => r.power(),
            _ => r.saturating(),
        });
        let mut p = self.limited(lines);
        for line in &mut p.lines {
            line.fixed = None;
        }
        p.step = (p.total.amount / self.between(9.0, 13.0)).ceil();
        p.total.amount = (p.total.amount / p.step).round() * p.step;
        p
    }

    /// Curves only, without groups or limits: marginals must be equal.
    pub fn smooth_problem(&mut self, n: usize) -> Problem {
        let mut lines = self.lines(n, |r| if r.chance(0.5) { r.power() } else { r.saturating() });
        for line in &mut lines {
            line.floor = 0.0;
            line.ceiling = None;
        }
        let total = lines.iter().map(|l| l.current).sum();
        Problem {
            goal: Goal::Conversions,
            total: Total { amount: total, spend: Use::All },
            step: 0.0,
            days: 1.0,
            noise: None,
            lines,
            groups: Vec::new(),
            limits: Limits::default(),
        }
    }
}

/// The answer, if the limits can be kept.
pub fn solved(p: &Problem) -> Option<Solved> {
    match p.answer().expect("the instances make sense") {
        Answer::Optimal(s) => Some(s),
        Answer::Infeasible { .. } => None,
    }
}

/// Lines of a group and of the groups inside it.
pub fn members(p: &Problem, group: &str) -> Vec<usize> {
    fn inside(p: &Problem, at: Option<&String>, group: &str) -> bool {
        at.is_some_and(|id| {
            id == group
                || inside(
                    p,
                    p.groups.iter().find(|g| g.id == *id).and_then(|g| g.parent.as_ref()),
                    group,
                )
        })
    }
    (0..p.lines.len()).filter(|&i| inside(p, p.lines[i].group.as_ref(), group)).collect()
}

/// Every limit kept to a millionth of a unit.
pub fn assert_limits_kept(p: &Problem, s: &Solved) {
    const SLACK: f64 = 1e-6;
    let scale = 1.0 + p.total.amount;
    for (line, a) in p.lines.iter().zip(&s.lines) {
        if let Some(fixed) = line.fixed {
            assert!((a.budget - fixed).abs() <= SLACK, "{}: {} is not {fixed}", line.id, a.budget);
            continue;
        }
        assert!(a.budget >= line.floor - SLACK, "{}: {} below {}", line.id, a.budget, line.floor);
        assert!(line.ceiling.is_none_or(|c| a.budget <= c + SLACK), "{}", line.id);
        if let Some(x) = p.limits.max_change {
            assert!((a.budget - line.current).abs() <= x * line.current + SLACK, "{}", line.id);
        }
    }
    assert!(s.totals.budget <= p.total.amount + SLACK);
    if p.total.spend == Use::All && p.goal != Goal::LeastSpend {
        assert!(
            (s.totals.budget - p.total.amount).abs() <= SLACK,
            "{} of {}",
            s.totals.budget,
            p.total.amount
        );
    }
    for g in &p.groups {
        let sum: f64 = members(p, &g.id).into_iter().map(|i| s.lines[i].budget).sum();
        let share = |x: Option<f64>| x.map(|x| x * p.total.amount);
        assert!(share(g.share_floor).is_none_or(|f| sum >= f - SLACK), "group {}", g.id);
        assert!(share(g.share_ceiling).is_none_or(|c| sum <= c + SLACK), "group {}", g.id);
        assert!(
            g.floor.is_none_or(|f| sum >= f - SLACK),
            "group {}: {sum} below {:?}",
            g.id,
            g.floor
        );
        assert!(
            g.ceiling.is_none_or(|c| sum <= c + SLACK),
            "group {}: {sum} above {:?}",
            g.id,
            g.ceiling
        );
    }
    if let Some(cpa) = p.limits.max_cpa {
        assert!(
            s.totals.budget <= cpa * s.totals.conversions + SLACK * scale,
            "CPA {:?}",
            s.totals.cpa()
        );
    }
    if let Some(roas) = p.limits.min_roas {
        assert!(
            s.totals.value.unwrap() >= roas * s.totals.budget - SLACK * scale,
            "ROAS {:?}",
            s.totals.roas()
        );
    }
    if let Some(n) = p.limits.min_conversions {
        assert!(s.totals.conversions >= n - SLACK * n.max(1.0));
    }
}
