//! The house has no circles: modules of a crate know each other in one direction only.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// Each module with those that it names.
type House = BTreeMap<String, BTreeSet<String>>;

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("the sources").flatten() {
        let path = entry.path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
}

/// The names that follow `crate::` or another prefix, of a group each.
fn named<'a>(text: &'a str, prefix: &str) -> Vec<&'a str> {
    let word = |t: &'a str| {
        let t = t.trim_start();
        &t[..t.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(t.len())]
    };
    let mut names = Vec::new();
    for (place, _) in text.match_indices(prefix) {
        let after = &text[place + prefix.len()..];
        let Some(group) = after.strip_prefix('{') else {
            names.push(word(after));
            continue;
        };
        let (mut depth, mut start) = (0, 0);
        for (i, c) in group.char_indices() {
            match c {
                '{' => depth += 1,
                '}' if depth == 0 => {
                    names.push(word(&group[start..i]));
                    break;
                }
                '}' => depth -= 1,
                ',' if depth == 0 => {
                    names.push(word(&group[start..i]));
                    start = i + 1;
                }
                _ => {}
            }
        }
    }
    names
}

/// The modules of a folder, as deep as one floor, by what their sources name after a prefix.
fn house(folder: &str, prefix: &str) -> House {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(folder);
    let mut all = Vec::new();
    files(&root, &mut all);
    let mut house = House::new();
    for path in all {
        let inside = path.strip_prefix(&root).unwrap();
        let module = inside.components().next().unwrap().as_os_str().to_str().unwrap();
        let module = module.trim_end_matches(".rs");
        if ["lib", "main", "mod", "bin"].contains(&module) {
            continue;
        }
        let text = fs::read_to_string(&path).unwrap();
        // What tests name is no way of the program.
        let text = text.split("#[cfg(test)]").next().unwrap();
        let names = named(text, prefix).into_iter().map(str::to_owned);
        house.entry(module.to_owned()).or_default().extend(names);
    }
    let modules: BTreeSet<String> = house.keys().cloned().collect();
    for (module, names) in &mut house {
        names.retain(|n| modules.contains(n) && n != module);
    }
    house
}

/// Takes away who names nobody that is left, again and again; who stays is in a circle, or leads to one.
fn circle(mut house: House) -> House {
    loop {
        let free: Vec<String> =
            house.iter().filter(|(_, n)| n.is_empty()).map(|(m, _)| m.clone()).collect();
        if free.is_empty() {
            return house;
        }
        house.retain(|m, _| !free.contains(m));
        for names in house.values_mut() {
            names.retain(|n| !free.contains(n));
        }
    }
}

#[test]
fn no_two_rooms_know_each_other() {
    for (folder, prefix, least) in [
        ("core/src", "crate::", 20),
        ("core/src/allocation", "super::", 4),
        ("channel/src", "crate::", 3),
        ("store/src", "crate::", 15),
        ("desk/src", "crate::", 18),
        ("desk/src/budgets", "crate::budgets::", 6),
        ("desk/src/tray", "crate::tray::", 4),
        ("web/src", "crate::", 8),
        ("web/src/pages", "crate::pages::", 25),
        ("app/src", "crate::", 4),
    ] {
        let house = house(folder, prefix);
        assert!(house.len() >= least, "{folder}: only {:?} were found", house.keys());
        assert!(house.values().any(|n| !n.is_empty()), "{folder}: nobody names anybody");
        let circle = circle(house);
        assert!(circle.is_empty(), "{folder} goes in circles: {circle:#?}");
    }
}

#[test]
fn a_circle_would_be_seen() {
    let text = "use crate::{Error, a::{self, X}, b};\nuse crate::c::D;";
    assert_eq!(named(text, "crate::"), ["Error", "a", "b", "c"]);
    let rooms = |of: &[(&str, &[&str])]| -> House {
        of.iter()
            .map(|(m, n)| ((*m).to_owned(), n.iter().map(|n| (*n).to_owned()).collect()))
            .collect()
    };
    assert!(circle(rooms(&[("a", &["b", "c"]), ("b", &["c"]), ("c", &[])])).is_empty());
    assert_eq!(circle(rooms(&[("a", &["b"]), ("b", &["c"]), ("c", &["b"])])).len(), 3);
}

/// `tests/all.rs` is the program of a crate's tests: a file that neither it nor the manifest names would never run.
#[test]
fn every_file_of_tests_is_named_in_its_program() {
    for (krate, mut all) in ["core", "desk", "web", "market", "app"].map(|k| (k, Vec::new())) {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(krate).join("tests");
        files(&folder, &mut all);
        let program = fs::read_to_string(folder.join("all.rs")).unwrap();
        let manifest = fs::read_to_string(folder.join("../Cargo.toml")).unwrap();
        let top = all.iter().filter(|f| f.parent() == Some(&folder));
        for name in top.map(|f| f.file_stem().unwrap().to_str().unwrap()).filter(|n| *n != "all") {
            let named = program.contains(&format!("mod {name};"))
                || manifest.contains(&format!("name = \"{name}\""));
            assert!(named, "{krate}/tests/all.rs lacks {name}");
        }
    }
}
