//! Prints a world file of a very large account for the stand-in market: 400 campaigns, 20,000 items, 100 days.

use std::fmt::Write;

const CAMPAIGNS: usize = 400;
const GROUPS: usize = 2;
/// Per ad group; keywords are 5 stems in 5 forms.
const ITEMS: usize = 25;

const TOP: &str = r#"seed = 19
days = 100
forms = ["{}", "{} price", "buy {}", "best {}", "{} online"]
tails = ["cheap", "near me", "reviews"]
[[rhythms]]
name = "evening"
demand = [1.4, 0.8, 0.5, 0.4, 0.5, 0.9, 2, 3, 3.6, 4, 4.3, 4.6, 4.9, 4.7, 4.5, 4.6, 4.9, 5.4, 6, 7, 8, 7.6, 5.4, 3]
[[people]]
name = "shoppers"
device = [{ segment = "phone", share = 0.66, cvr = 0.85 }, { segment = "desktop", share = 0.28, cvr = 1.4 }, { segment = "tablet", share = 0.06 }]
country = [{ segment = "Germany", share = 0.6 }, { segment = "Austria", share = 0.2, cvr = 0.95 }, { segment = "Poland", share = 0.2, cvr = 0.4 }]
age = [{ segment = "18-24", share = 0.2, cvr = 0.7 }, { segment = "25-44", share = 0.5 }, { segment = "45 and over", share = 0.3, cvr = 1.1 }]
gender = [{ segment = "women", share = 0.56, cvr = 1.05 }, { segment = "men", share = 0.44, cvr = 0.93 }]
placement = [{ segment = "results", share = 0.7 }, { segment = "partner pages", share = 0.3, ctr = 0.7, cvr = 0.8 }]
[[channels]]
name = "Findle"
rhythm = "evening"
people = "shoppers"
[[channels]]
name = "Emberlane"
rhythm = "evening"
people = "shoppers"
[[accounts]]
key = "grand"
name = "Amberfold Grand"
token = "amberfold-grand-practice"
currency = "EUR"
time_zone = "Europe/Berlin"
target_roas = 3.5
events = [{ name = "order", of_conversions = 1.0 }, { name = "newsletter", of_clicks = 0.04 }]
"#;

fn main() {
    let mut world = TOP.to_owned();
    for n in 0..CAMPAIGNS {
        // Every campaign a little unlike the others, the same in every run.
        let lot = |of: usize| (n * 7919 + of * 104_729) % 97;
        let part = |of: usize| lot(of) as f64 / 96.0;
        let (kind, channel) = [
            ("keyword", "Findle"),
            ("listing", "Findle"),
            ("keyword", "Findle"),
            ("ad", "Emberlane"),
            ("listing", "Findle"),
        ][n % 5];
        let competition = 0.3 + part(1);
        let strategy = match n % 4 {
            0 => "target_roas = { target = 3.5 }".to_owned(),
            1 => "most_value = {}".to_owned(),
            _ => format!("manual_cpc = {{ bid = {:.2} }}", competition * (0.8 + 0.5 * part(2))),
        };
        let _ = write!(
            world,
            "[[accounts.campaigns]]\nname = \"Range {n:03}, {kind}\"\nchannel = \"{channel}\"\nkind = \"{kind}\"\nstrategy = {{ {strategy} }}\n\
             budget = {:.0}\nauctions = {:.0}\ncompetition = {competition:.3}\nctr = 0.03\ncvr = {:.4}\nvalue = {:.0}\n",
            60.0 + 120.0 * part(3),
            4_000.0 + 12_000.0 * part(4),
            0.02 + 0.04 * part(5),
            30.0 + 90.0 * part(6),
        );
        for g in 0..GROUPS {
            let stems: Vec<String> = if kind == "keyword" {
                (0..ITEMS / 5).map(|i| format!("\"range {n} word {}\"", g * ITEMS + i)).collect()
            } else {
                (0..ITEMS).map(|i| format!("\"Range {n} piece {}\"", g * ITEMS + i)).collect()
            };
            let matched = if g == 0 { "exact" } else { "broad" };
            let _ = write!(
                world,
                "[[accounts.campaigns.ad_groups]]\nname = \"Part {g}\"\nmatch_type = \"{matched}\"\nstems = [{}]\n",
                stems.join(", ")
            );
        }
    }
    print!("{world}");
}
