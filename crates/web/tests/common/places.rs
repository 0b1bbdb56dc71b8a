//! Every address of the site, read out of the table of contents itself.

/// An address with what may be asked of it.
#[derive(Clone, Debug)]
pub struct Place {
    /// Below an account; of others the whole address.
    pub path: String,
    /// Whether it lies below an account.
    pub of_account: bool,
    /// Whether it can be read.
    pub get: bool,
    /// Whether something can be sent to it.
    pub post: bool,
}

impl Place {
    /// Its address, for an account of a name, with an id in it.
    pub fn at(&self, account: &str, id: &str) -> String {
        let below = self.path.replace("{id}", id).replace("{key}", id).replace("{*path}", id);
        if self.of_account { format!("/accounts/{account}{below}") } else { below }
    }
}

/// All of them, in the order of the file.
pub fn all() -> Vec<Place> {
    let text = include_str!("../../src/routes.rs");
    let text = text.split("#[cfg(test)]").next().unwrap();
    let outside = text.find("let pages").unwrap()..text.find("fn rule_pages").unwrap();
    let routes = text.match_indices(".route(").map(|(at, _)| {
        let from = at + ".route(".len();
        let mut open = 1;
        let length = text[from..].find(|c| {
            open += i32::from(c == '(') - i32::from(c == ')');
            open == 0
        });
        let inside = &text[from..from + length.unwrap()];
        let (_, after) = inside.split_once('"').unwrap();
        let (path, handlers) = after.split_once('"').unwrap();
        Place {
            path: path.to_owned(),
            of_account: !outside.contains(&at),
            get: handlers.contains("get("),
            post: handlers.contains("post("),
        }
    });
    routes.collect()
}
