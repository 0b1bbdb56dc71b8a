//! Laws of the week's advice, over accounts drawn at random: whatever they are like, it moves money and adds none,
//! goes in steps, and asks nobody for more than can be spent.

use proptest::prelude::*;
use tiller_core::allocation::{Precision, Response};
use tiller_core::learning::{SHOCK, used};
use tiller_core::response::budget_response::{BudgetResponse, Capacity, Evidence};
use tiller_core::{PerDay, Price};
use tiller_desk::CampaignId;
use tiller_desk::budgets::freed::Freed;
use tiller_desk::budgets::responses::{Compared, Spender};
use tiller_desk::budgets::weekly::{Move, Part, Week, Whole, advise};

/// A campaign with its part.
fn campaign() -> impl Strategy<Value = (Spender, Part)> {
    let part = prop_oneof![
        3 => Just(Part::Full),
        1 => Just(Part::Gives),
        1 => (1.0..3.0).prop_map(Part::Fixable),
    ];
    let response = prop_oneof![
        (0.001..0.1).prop_map(|rate| Response::Constant { cpc: 1.0, cvr: rate }),
        ((0.01..2.0), (0.3..0.95))
            .prop_map(|(scale, elasticity)| Response::Power { scale, elasticity }),
    ];
    let money = (10.0..1000.0, 0.2..1.0, proptest::option::of(1.0..3.0));
    (money, response, 0.0..200.0, any::<bool>(), part).prop_map(
        |((budget, use_of_it, room), response, conversions, learns, part)| {
            let spend = budget * use_of_it;
            let precision = Precision::alone(spend, [[0.001, 0.0], [0.0, 0.0]], [spend; 2]);
            let line = Spender {
                campaign: CampaignId(0),
                name: String::new(),
                budget: Some(budget),
                least: 1.0,
                spend,
                conversions,
                to_come_error: 0.0,
                bidding: None,
                learns,
                highest_bid: None,
                fresh: false,
                cpc: Price(1.0),
                compared: Compared { response, precision, worth: Price(50.0) },
                budget_response: BudgetResponse {
                    response,
                    precision,
                    capacity: Capacity {
                        most: room.map(|room| spend * room),
                        evidence: Evidence::LostAuctions,
                    },
                    curve: None,
                },
                worth: Price(50.0),
            };
            (line, part)
        },
    )
}

fn account() -> impl Strategy<Value = Vec<(Spender, Part)>> {
    proptest::collection::vec(campaign(), 1..12).prop_map(|mut all| {
        for (i, (line, _)) in all.iter_mut().enumerate() {
            line.campaign = CampaignId(i as i64);
        }
        all
    })
}

fn of(account: &[(Spender, Part)]) -> Week {
    with_unspent(account, 0.0, 0.0)
}

/// With so much left unspent, where each is sure to meet its target up to so many times what it spends.
fn with_unspent(account: &[(Spender, Part)], unspent: f64, up_to: f64) -> Week {
    let lines = account.iter().map(|(l, _)| l.clone()).collect();
    let part = |l: &Spender| account[l.campaign.0 as usize].1;
    let sure = |l: &Spender, spend: f64| spend <= up_to * l.spend;
    advise(lines, (unspent, &Freed::default()), false, part, sure)
}

fn up(m: &Move) -> bool {
    m.spend > m.line.spend
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn money_is_moved_and_none_is_added(account in account()) {
        let week = of(&account);
        let total: f64 = account.iter().map(|(l, _)| l.spend).sum();
        let added: f64 = week.moves.iter().map(|m| m.spend - m.line.spend).sum();
        prop_assert!(added <= 1e-6 * total, "{added} more than {total}: {week:?}");
    }

    /// What budgets leave unspent may be spent as far as it is sure, and no more; it brings no less than what is spent now
    /// does, and where there is enough, nobody on target gives.
    #[test]
    fn no_more_is_spent_than_is_left(account in account(), share in 0.0f64..0.5, up_to in 0.9f64..2.0) {
        let total: f64 = account.iter().map(|(l, _)| l.spend).sum();
        let unspent = share * total;
        let week = with_unspent(&account, unspent, up_to);
        let added: f64 = week.moves.iter().map(|m| m.spend - m.line.spend).sum();
        let sure = (up_to - 1.0).max(0.0) * total;
        prop_assert!(added <= unspent.min(sure) + 1e-6 * total, "{added} more than {unspent}: {week:?}");
        prop_assert!((week.spends_more() - added.max(0.0)).abs() < 1e-9);
        if let Some(Whole { now, then, .. }) = week.whole {
            prop_assert!(then.conversions >= now.conversions * (1.0 - 1e-6), "{now:?} {then:?}");
        }
        if sure > 0.0 && sure <= unspent {
            for m in &week.moves {
                prop_assert!(up(m) || m.part != Part::Full, "{m:?}");
            }
        }
    }

    #[test]
    fn no_move_goes_the_other_way_or_beyond_what_is_known(account in account()) {
        for m in of(&account).moves {
            let part = account[m.line.campaign.0 as usize].1;
            prop_assert_eq!(up(&m), m.to > m.from, "{:?}", m);
            if up(&m) {
                prop_assert_eq!(part, Part::Full, "{:?}", m);
                let (from, to) = (m.from.units(), m.to.units());
                prop_assert!(to <= m.line.budget_response.capacity.most.unwrap_or(1.2 * from) + 0.01, "{:?}", m);
                prop_assert!(to <= 2.0 * from + 0.01, "{:?}", m);
            } else {
                let kept = if m.line.conversions < 10.0 { 0.8 } else { 0.1 };
                prop_assert!(m.spend >= kept * m.line.spend * (1.0 - 1e-9), "{:?}", m);
            }
        }
    }

    #[test]
    fn every_step_of_who_learns_is_small_and_the_last_one_is_the_goal(account in account()) {
        for m in of(&account).moves {
            let (mut from, to) = (m.from.units(), m.to.units());
            prop_assert_eq!(m.steps.last(), Some(&m.to), "{:?}", m);
            if !m.line.learns {
                from = used(from, to, m.line.spend);
            }
            // Nobody has to learn, or too little is left to learn for.
            let known = m.line.budget_response.capacity.most.is_some();
            if to < 0.5 * from || !m.line.learns && (!up(&m) || known) {
                prop_assert_eq!(m.steps.len(), 1, "{:?}", m);
                continue;
            }
            for PerDay(step) in &m.steps {
                // Both are set in hundredths.
                prop_assert!((step - from).abs() <= SHOCK * from + 0.02, "{} to {}: {:?}", from, step, m);
                from = *step;
            }
        }
    }

    #[test]
    fn nobody_is_moved_by_less_than_could_be_seen(account in account()) {
        for m in of(&account).moves {
            prop_assert!((m.spend / m.line.spend - 1.0).abs() >= 0.029, "{:?}", m);
        }
    }
}
