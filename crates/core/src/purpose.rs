//! What a campaign is for among its peers: people who search the account's own name, people who search what it
//! sells, people who have not heard of it, people who have been there. A campaign is only compared with campaigns
//! of its own purpose; guessed here from names and structure, to be corrected by hand.

/// What a campaign is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Purpose {
    /// The account's own name.
    Brand,
    /// What it sells, by people who look for it.
    Generic,
    /// People who don't know it yet.
    Prospecting,
    /// People who have been there.
    Retargeting,
}

crate::words!(Purpose: Brand "brand", Generic "generic", Prospecting "prospecting", Retargeting "retargeting");

/// What a guess goes by.
#[derive(Clone, Copy, Debug, Default)]
pub struct Clues<'a> {
    /// The campaign's name.
    pub campaign: &'a str,
    /// keyword, listing, ad or audience: what most of its items are.
    pub kind: &'a str,
    /// The names of its ad groups.
    pub ad_groups: &'a [&'a str],
    /// The account's own name, as [`own_name`] reads it.
    pub own_name: Option<&'a str>,
    /// Share of its items that are the account's own name.
    pub own_name_share: f64,
}

/// Parts of names that tell of people who have been there (common practice, no source).
const BEEN_THERE: [&str; 12] = [
    "retarget",
    "remarket",
    "returning",
    "re-engage",
    "reengage",
    "winback",
    "win-back",
    "abandon",
    "revisit",
    "past visitor",
    "past buyer",
    "site visitor",
];
/// Of people who search the account's own name.
const OWN: [&str; 5] = ["brand", "own name", "our name", "company name", "shop name"];
/// Of campaigns that are named after what they leave out.
const NOT_OWN: [&str; 6] =
    ["non-brand", "nonbrand", "non brand", "not brand", "unbranded", "no brand"];
/// Words that every other company's name has.
const COMMON: [&str; 12] = [
    "the", "shop", "store", "online", "company", "group", "limited", "gmbh", "school", "supply",
    "house", "services",
];

/// The word of an account's name that is its own: the first that is long enough and not everybody's.
///
/// ```
/// use tiller_core::purpose::own_name;
/// assert_eq!(own_name("The Amberfold School").as_deref(), Some("amberfold"));
/// assert_eq!(own_name("Shop"), None);
/// ```
pub fn own_name(account: &str) -> Option<String> {
    let words = account.split(|c: char| !c.is_alphanumeric()).map(str::to_lowercase);
    words.into_iter().find(|w| w.chars().count() >= 4 && !COMMON.contains(&w.as_str()))
}

/// The likeliest purpose.
pub fn guess(clues: &Clues) -> Purpose {
    let name = clues.campaign.to_lowercase();
    let has = |text: &str, parts: &[&str]| parts.iter().any(|part| text.contains(part));
    let is_own = |text: &str| clues.own_name.is_some_and(|own| text.to_lowercase().contains(own));
    let searched = matches!(clues.kind, "keyword" | "listing");
    let groups = |of: &dyn Fn(&str) -> bool| {
        let found = clues.ad_groups.iter().filter(|g| of(g)).count();
        found > 0 && 2 * found >= clues.ad_groups.len()
    };
    let been_there = |text: &str| has(&text.to_lowercase(), &BEEN_THERE);
    if been_there(&name) || groups(&been_there) {
        return Purpose::Retargeting;
    }
    let own = !has(&name, &NOT_OWN)
        && (has(&name, &OWN)
            || (clues.kind == "keyword" && (is_own(&name) || groups(&is_own)))
            || clues.own_name_share >= 0.5);
    match (searched, own) {
        (true, true) => Purpose::Brand,
        (true, false) => Purpose::Generic,
        (false, _) => Purpose::Prospecting,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_structure_tell_it() {
        let of = |campaign, kind, ad_groups: &[&str]| {
            guess(&Clues {
                campaign,
                kind,
                ad_groups,
                own_name: Some("amberfold"),
                own_name_share: 0.0,
            })
        };
        assert_eq!(of("Own name, search", "keyword", &["Amberfold", "Misspelt"]), Purpose::Brand);
        assert_eq!(of("Search 1", "keyword", &["Amberfold", "Misspelt"]), Purpose::Brand);
        assert_eq!(of("Search, non-brand", "keyword", &["Hives"]), Purpose::Generic);
        assert_eq!(of("Spring courses, search", "keyword", &["Evening course"]), Purpose::Generic);
        assert_eq!(of("Shop listings", "listing", &["Amberfold suits", "Jars"]), Purpose::Generic);
        assert_eq!(of("Returning visitors, display", "audience", &[]), Purpose::Retargeting);
        assert_eq!(of("Neighbours, feed", "ad", &["Friends"]), Purpose::Prospecting);
        assert_eq!(of("Brand film", "ad", &[]), Purpose::Prospecting, "nobody searched for it");
    }

    #[test]
    fn keywords_tell_it_where_names_do_not() {
        let clues =
            Clues { campaign: "S-01", kind: "keyword", own_name_share: 0.7, ..Clues::default() };
        assert_eq!(guess(&clues), Purpose::Brand);
        assert_eq!(guess(&Clues { own_name_share: 0.2, ..clues }), Purpose::Generic);
    }

    #[test]
    fn words_are_read_back() {
        for p in Purpose::ALL {
            assert_eq!(Purpose::read(p.word()), Some(p));
        }
        assert_eq!(Purpose::read("branding"), None);
    }
}
