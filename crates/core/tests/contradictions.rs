//! Every way in which limits can contradict each other: named in its smallest form, with the shortfall,
//! and ended by every repair that is offered.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use tiller_core::allocation::{
    Answer, Conflict, ConflictKind, Goal, Group, Limits, Line, Problem, Repair, Response, Total,
    Use, WholeLimit,
};

fn line(id: &str, group: Option<&str>) -> Line {
    Line {
        group: group.map(str::to_owned),
        current: 100.0,
        value_per_conversion: Some(50.0),
        margin: Some(0.4),
        cpc: Some(1.0),
        ..Line::new(id, Response::Power { scale: 1.0, elasticity: 0.5 })
    }
}

/// Three lines of 100 each, two of them in a group inside a group.
fn problem() -> Problem {
    Problem {
        goal: Goal::Conversions,
        total: Total { amount: 300.0, spend: Use::All },
        step: 0.01,
        days: 1.0,
        noise: None,
        lines: vec![line("a", Some("inner")), line("b", Some("inner")), line("c", None)],
        groups: vec![
            Group { id: "outer".into(), ..Group::default() },
            Group { id: "inner".into(), parent: Some("outer".into()), ..Group::default() },
        ],
        limits: Limits::default(),
    }
}

fn infeasible(p: &Problem) -> (Vec<Conflict>, Vec<Repair>) {
    match p.answer().unwrap() {
        Answer::Infeasible { conflicts, repairs } => (conflicts, repairs),
        Answer::Optimal(s) => panic!("solved: {:?}", s.totals),
    }
}

/// One contradiction of a kind, short by so much; each repair ends it.
fn expect(p: &Problem, kind: ConflictKind, short_by: f64, members: &[&str]) -> Vec<Repair> {
    let (conflicts, repairs) = infeasible(p);
    assert_eq!(conflicts.len(), 1, "{conflicts:?}");
    let found = &conflicts[0];
    assert_eq!(found.kind, kind);
    assert!((found.short_by() - short_by).abs() < 1e-6, "{} is not {short_by}", found.short_by());
    assert_eq!(found.members, members);
    assert!(!repairs.is_empty(), "nothing is offered for {kind:?}");
    for repair in &repairs {
        let mut mended = p.clone();
        repair.apply(&mut mended);
        if let Answer::Infeasible { conflicts, .. } = mended.answer().unwrap() {
            assert!(conflicts.iter().all(|c| c.kind != kind), "{repair:?} leaves {conflicts:?}");
        }
    }
    repairs
}

#[test]
fn a_floor_above_its_ceiling() {
    let mut p = problem();
    (p.lines[0].floor, p.lines[0].ceiling) = (80.0, Some(60.0));
    let repairs = expect(&p, ConflictKind::FloorAboveCeiling, 20.0, &["a"]);
    assert_eq!(repairs[0], Repair::Floors { lines: vec![("a".into(), 60.0)] });
    assert_eq!(repairs[1], Repair::Ceilings { lines: vec![("a".into(), 80.0)] });
}

#[test]
fn a_floor_above_what_change_allows() {
    let mut p = problem();
    p.limits.max_change = Some(0.2);
    p.lines[2].floor = 150.0;
    let repairs = expect(&p, ConflictKind::FloorAboveChange, 30.0, &["c"]);
    assert!(repairs.contains(&Repair::MaxChange { to: 0.5 }), "{repairs:?}");
}

#[test]
fn a_ceiling_below_what_change_allows() {
    let mut p = problem();
    p.limits.max_change = Some(0.2);
    p.lines[2].ceiling = Some(50.0);
    let repairs = expect(&p, ConflictKind::CeilingBelowChange, 30.0, &["c"]);
    assert!(repairs.contains(&Repair::Ceilings { lines: vec![("c".into(), 80.0)] }), "{repairs:?}");
}

#[test]
fn a_groups_floor_above_its_own_ceiling() {
    let mut p = problem();
    (p.groups[1].floor, p.groups[1].ceiling) = (Some(200.0), Some(150.0));
    let repairs = expect(&p, ConflictKind::GroupFloorAboveCeiling, 50.0, &[]);
    assert!(repairs.contains(&Repair::GroupFloor { group: "inner".into(), to: 150.0 }));
}

#[test]
fn a_groups_floor_above_its_members_ceilings() {
    let mut p = problem();
    p.groups[0].floor = Some(250.0);
    p.lines[0].ceiling = Some(90.0);
    p.lines[1].ceiling = Some(90.0);
    let repairs = expect(&p, ConflictKind::GroupFloorAboveMembers, 70.0, &["a", "b"]);
    assert!(
        repairs.contains(&Repair::GroupFloor { group: "outer".into(), to: 180.0 }),
        "{repairs:?}"
    );
}

#[test]
fn members_floors_above_their_groups_ceiling() {
    let mut p = problem();
    p.groups[1].share_ceiling = Some(0.3);
    p.lines[0].floor = 60.0;
    p.lines[1].floor = 60.0;
    let repairs = expect(&p, ConflictKind::MembersAboveGroupCeiling, 30.0, &["a", "b"]);
    assert!(repairs.contains(&Repair::GroupCeiling { group: "inner".into(), to: 120.0 }));
    assert!(
        repairs.contains(&Repair::Floors { lines: vec![("a".into(), 45.0), ("b".into(), 45.0)] }),
        "{repairs:?}"
    );
}

#[test]
fn floors_above_the_total() {
    let mut p = problem();
    for (line, floor) in p.lines.iter_mut().zip([200.0, 100.0, 100.0]) {
        line.floor = floor;
    }
    let repairs = expect(&p, ConflictKind::FloorsAboveTotal, 100.0, &["a", "b", "c"]);
    assert_eq!(repairs[0], Repair::Total { to: 400.0 });
    let Repair::Floors { lines } = &repairs[1] else { panic!("{repairs:?}") };
    assert_eq!(lines.iter().map(|l| l.1).collect::<Vec<_>>(), [150.0, 75.0, 75.0], "in proportion");
}

#[test]
fn ceilings_below_the_total() {
    let mut p = problem();
    for line in &mut p.lines {
        line.ceiling = Some(80.0);
    }
    let repairs = expect(&p, ConflictKind::CeilingsBelowTotal, 60.0, &["a", "b", "c"]);
    assert_eq!(repairs[0], Repair::Total { to: 240.0 });
    assert_eq!(repairs[1], Repair::SpendUpTo);
    p.total.spend = Use::UpTo;
    assert!(
        matches!(p.answer().unwrap(), Answer::Optimal(s) if (s.totals.budget - 240.0).abs() < 1e-9)
    );
}

#[test]
fn a_change_too_narrow_for_the_total() {
    let mut p = problem();
    p.limits.max_change = Some(0.1);
    p.total.amount = 400.0;
    let repairs = expect(&p, ConflictKind::CeilingsBelowTotal, 70.0, &["a", "b", "c"]);
    assert!(
        repairs.iter().any(|r| matches!(r, Repair::MaxChange { to } if (0.33..0.35).contains(to))),
        "{repairs:?}"
    );
}

/// By hand: 100 each now, one set to 90. For 150 the other two keep 60 together: down by 70%. Their floors are not
/// what asks for more, so lowering them is not offered.
#[test]
fn a_change_too_narrow_beside_what_is_set_by_hand() {
    let mut p = problem();
    p.limits.max_change = Some(0.2);
    p.total.amount = 150.0;
    for (line, (current, floor)) in
        p.lines.iter_mut().zip([(100.0, 0.0), (100.0, 5.0), (100.0, 5.0)])
    {
        (line.current, line.floor) = (current, floor);
    }
    p.lines[0].fixed = Some(90.0);
    let repairs = expect(&p, ConflictKind::FloorsAboveTotal, 100.0, &["a", "b", "c"]);
    assert_eq!(repairs, [Repair::Total { to: 250.0 }, Repair::MaxChange { to: 0.7 }]);
}

#[test]
fn a_target_out_of_reach() {
    let mut p = problem();
    p.limits.max_cpa = Some(1.0);
    let repairs = expect(&p, ConflictKind::OutOfReach(WholeLimit::MaxCpa), 9.0, &[]);
    assert_eq!(repairs[0], Repair::SpendUpTo, "spending less is the way to a lower CPA");
    let mut p = problem();
    p.limits.min_roas = Some(6.0);
    // Three equal lines of 100: 30 conversions of 50 on 300, and no split does better.
    expect(&p, ConflictKind::OutOfReach(WholeLimit::MinRoas), 1.0, &[]);
    let mut p = problem();
    p.goal = Goal::LeastSpend;
    p.limits.min_conversions = Some(40.0);
    expect(&p, ConflictKind::OutOfReach(WholeLimit::MinConversions), 10.0, &[]);
}

#[test]
fn several_contradictions_are_told_together_and_a_parent_does_not_repeat_its_child() {
    let mut p = problem();
    (p.lines[2].floor, p.lines[2].ceiling) = (80.0, Some(60.0));
    p.groups[1].ceiling = Some(50.0);
    p.groups[0].ceiling = Some(70.0);
    p.lines[0].floor = 90.0;
    let (conflicts, repairs) = infeasible(&p);
    let kinds: Vec<_> = conflicts.iter().map(|c| c.kind).collect();
    assert_eq!(kinds, [ConflictKind::FloorAboveCeiling, ConflictKind::MembersAboveGroupCeiling]);
    assert_eq!(conflicts[1].group.as_deref(), Some("inner"));
    assert!(repairs.len() >= 3);
}

#[test]
fn two_limits_on_the_whole_at_once() {
    let mut p = problem();
    p.total = Total { amount: 1000.0, spend: Use::UpTo };
    p.step = 0.0;
    p.limits.max_cpa = Some(12.0);
    p.limits.min_roas = Some(4.5);
    let Answer::Optimal(s) = p.answer().unwrap() else { panic!() };
    // ROAS 4.5 at 50 each is a CPA of 11.11: the tighter of the two decides.
    assert!((s.totals.cpa().unwrap() - 50.0 / 4.5).abs() < 1e-6, "{:?}", s.totals);
    assert!(s.totals.budget < 1000.0);
}

/// Group floors that add up to more than the total are named with their groups, in money and as shares, and a
/// repair that lowers them in proportion leads out.
#[test]
fn floors_of_groups_above_the_total() {
    let group = |id: &str, floor, share_floor| Group {
        id: id.into(),
        floor,
        share_floor,
        ..Group::default()
    };
    let mut p = problem();
    p.total.amount = 100.0;
    p.lines = vec![line("a", Some("g")), line("b", Some("h")), line("c", None)];
    for (g, h) in [
        (group("g", Some(80.0), None), group("h", Some(60.0), None)),
        (group("g", None, Some(0.7)), group("h", None, Some(0.6))),
    ] {
        p.groups = vec![g, h];
        let (conflicts, repairs) = infeasible(&p);
        assert_eq!(conflicts[0].kind, ConflictKind::FloorsAboveTotal);
        assert_eq!(conflicts[0].groups, ["g", "h"]);
        assert!(conflicts[0].short_by() >= 30.0 - 1e-9, "{conflicts:?}");
        let lower = repairs.iter().find(|r| matches!(r, Repair::GroupFloors { .. })).unwrap();
        let mut mended = p.clone();
        lower.apply(&mut mended);
        assert!(matches!(mended.answer().unwrap(), Answer::Optimal(_)), "{lower:?}");
    }
    // One group around another: the outer floor gives up what the inner one does.
    p.groups = vec![
        Group { parent: Some("out".into()), ..group("g", Some(90.0), None) },
        group("out", Some(95.0), None),
        group("h", Some(40.0), None),
    ];
    let (_, repairs) = infeasible(&p);
    let lower = repairs.iter().find(|r| matches!(r, Repair::GroupFloors { .. })).unwrap();
    let Repair::GroupFloors { groups } = lower else { unreachable!() };
    assert_eq!(groups.len(), 3, "{groups:?}");
    lower.apply(&mut p);
    assert!(matches!(p.answer().unwrap(), Answer::Optimal(_)));
}
