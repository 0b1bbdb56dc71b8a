//! What is typed into a plan: read field by field into edits, then taken.

use std::collections::HashMap;

use tiller_core::allocation::{Goal, Line, Response, Use};

use super::worked::present_conversions;
use crate::numerals::typed_number;
use crate::plans::file::{PlanFile, PlanFileError};

/// What a hand-drawn curve starts with (common practice, no source: returns diminish).
pub const DEFAULT_ELASTICITY: f64 = 0.7;

/// What the person typed into a plan, by field name.
pub type Typed = HashMap<String, String>;

/// An error at a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldError {
    /// The field's name.
    pub field: String,
    /// What to do.
    pub message: String,
}

impl FieldError {
    fn new(field: impl Into<String>, message: impl Into<String>) -> Self {
        Self { field: field.into(), message: message.into() }
    }
}

/// A limit of a group: none, of money, or as a share of the total.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Bound {
    Money(Option<f64>),
    Share(Option<f64>),
}

/// One thing that is typed, as it was read. Lines and groups by their place.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Edit {
    Total(f64),
    MaxCpa(Option<f64>),
    MinRoas(Option<f64>),
    MinConversions(Option<f64>),
    MaxChange(Option<f64>),
    TestShare(Option<f64>),
    Goal(Goal),
    Use(Use),
    Floor(usize, f64),
    Ceiling(usize, Option<f64>),
    Fixed(usize, Option<f64>),
    Margin(usize, Option<f64>),
    MarginOfAll(Option<f64>),
    GroupFloor(usize, Bound),
    GroupCeiling(usize, Bound),
    /// The elasticity of a curve drawn by hand; none for a straight line.
    Shape(usize, Option<f64>),
}

/// Takes what was typed into the plan; every field that can't be read is named, the others are taken.
pub fn edit(file: &mut PlanFile, typed: &Typed) -> Vec<FieldError> {
    let mut reading = Reading { typed, edits: Vec::new(), errors: Vec::new() };
    reading.whole(file);
    for (i, line) in file.lines.iter().enumerate() {
        reading.line(i, line);
    }
    for (i, group) in file.groups.iter().enumerate() {
        let mine = file.lines.iter().filter(|l| l.group.as_ref() == Some(&group.id));
        reading.group(i, &group.id, mine.map(|l| l.current).sum());
    }
    let Reading { edits, mut errors, .. } = reading;
    for edit in edits {
        take(file, edit);
    }
    if let Err(error) = file.check()
        && errors.is_empty()
    {
        errors.push(of_the_whole(&error));
    }
    errors
}

/// What has been read so far.
struct Reading<'a> {
    typed: &'a Typed,
    edits: Vec<Edit>,
    errors: Vec<FieldError>,
}

impl<'a> Reading<'a> {
    fn text(&self, field: &str) -> Option<&'a str> {
        self.typed.get(field).map(|t| t.trim())
    }

    /// An amount of at least so much; `+10%` is of `base`.
    fn amount(
        &mut self,
        field: &str,
        base: Option<f64>,
        least: f64,
        edit: impl FnOnce(Option<f64>) -> Edit,
    ) {
        let Some(text) = self.text(field) else { return };
        match typed_number::amount(text, base) {
            Ok(Some(x)) if x < least || x > 1e12 => {
                let message = if least > 0.0 {
                    "a number above 0 is needed"
                } else {
                    "an amount of 0 or more is needed"
                };
                self.errors.push(FieldError::new(field, message));
            }
            Ok(x) => self.edits.push(edit(x)),
            Err(message) => self.errors.push(FieldError::new(field, message)),
        }
    }

    /// A share; a bare number above what a share can be is meant in per cent.
    fn share(&mut self, field: &str, most: f64, edit: impl FnOnce(Option<f64>) -> Edit) {
        let Some(text) = self.text(field) else { return };
        let meant = |x: f64| if x > most && !text.contains('%') { x / 100.0 } else { x };
        match typed_number::share(text) {
            Ok(x) => self.edits.push(edit(x.map(meant))),
            Err(message) => self.errors.push(FieldError::new(field, message)),
        }
    }

    fn whole(&mut self, file: &PlanFile) {
        let total = file.total.amount;
        self.amount("total", Some(total), 0.0, |x| Edit::Total(x.unwrap_or(total)));
        self.amount("max_cpa", file.limits.max_cpa, 1e-9, Edit::MaxCpa);
        self.amount("min_roas", file.limits.min_roas, 1e-9, Edit::MinRoas);
        self.amount("min_conversions", file.limits.min_conversions, 0.0, Edit::MinConversions);
        self.share("max_change", 1.0, Edit::MaxChange);
        self.share("test_share", 0.9, Edit::TestShare);
        let goal = self.text("goal").and_then(Goal::read);
        let spend = self.text("use").and_then(Use::read);
        self.edits.extend(goal.map(Edit::Goal).into_iter().chain(spend.map(Edit::Use)));
        // For all lines first, then for each that has one of its own.
        self.share("margin", 1.0, Edit::MarginOfAll);
    }

    fn line(&mut self, i: usize, line: &Line) {
        let now = Some(line.current);
        self.amount(&format!("floor-{i}"), now, 0.0, |x| Edit::Floor(i, x.unwrap_or(0.0)));
        self.amount(&format!("ceiling-{i}"), now, 0.0, |x| Edit::Ceiling(i, x));
        self.amount(&format!("fixed-{i}"), now, 0.0, |x| Edit::Fixed(i, x));
        self.share(&format!("margin-{i}"), 1.0, |x| Edit::Margin(i, x));
        self.shape(i, line);
    }

    fn shape(&mut self, i: usize, line: &Line) {
        let now = match line.response {
            Response::Power { elasticity, .. } => Some(elasticity),
            _ => None,
        };
        let field = format!("elasticity-{i}");
        let typed = self.text(&field).map(|t| typed_number::amount(t, None));
        let elasticity = match (self.text(&format!("shape-{i}")), typed) {
            (Some("power"), Some(Ok(Some(b)))) if b > 0.0 && b < 1.0 => Some(b),
            (Some("power"), None | Some(Ok(None))) => Some(now.unwrap_or(DEFAULT_ELASTICITY)),
            (Some("power"), Some(_)) => {
                let message = "an elasticity lies above 0 and below 1, such as 0.7";
                self.errors.push(FieldError::new(field, message));
                return;
            }
            (Some("constant"), _) => None,
            // As it was fitted.
            _ => return,
        };
        let same = match elasticity {
            // Shown to three places.
            Some(b) => now.is_some_and(|now| (now - b).abs() < 6e-4),
            None => matches!(line.response, Response::Constant { .. }),
        };
        if !same {
            self.edits.push(Edit::Shape(i, elasticity));
        }
    }

    /// 20% is a share of the total, +20% is of what the group spends now.
    fn group(&mut self, i: usize, id: &str, present: f64) {
        for least in [true, false] {
            let edit = if least { Edit::GroupFloor } else { Edit::GroupCeiling };
            let field = format!("group-{}:{id}", if least { "floor" } else { "ceiling" });
            let text = self.text(&field).unwrap_or_default();
            if !text.ends_with('%') || text.starts_with(['+', '-', '−']) {
                self.amount(&field, Some(present), 0.0, |x| edit(i, Bound::Money(x)));
                continue;
            }
            match typed_number::share(text) {
                Ok(Some(x)) if x > 1.0 => {
                    let message = "a share of the total is 100% at most";
                    self.errors.push(FieldError::new(field, message));
                }
                Ok(x) => self.edits.push(edit(i, Bound::Share(x))),
                Err(message) => self.errors.push(FieldError::new(field, message)),
            }
        }
    }
}

/// Takes an edit into the plan.
fn take(file: &mut PlanFile, edit: Edit) {
    let step = file.step;
    let whole = |x: f64| if step > 0.0 { (x / step).round() * step } else { x };
    match edit {
        Edit::Total(x) => file.total.amount = whole(x),
        Edit::MaxCpa(x) => file.limits.max_cpa = x,
        Edit::MinRoas(x) => file.limits.min_roas = x,
        Edit::MinConversions(x) => file.limits.min_conversions = x,
        Edit::MaxChange(x) => file.limits.max_change = x,
        Edit::TestShare(x) => file.test_share = x,
        Edit::Goal(goal) => file.goal = goal,
        Edit::Use(spend) => file.total.spend = spend,
        Edit::Floor(i, x) => file.lines[i].floor = x,
        Edit::Ceiling(i, x) => file.lines[i].ceiling = x,
        Edit::Fixed(i, x) => {
            let line = &mut file.lines[i];
            // A handle is dragged within its brackets.
            let most = line.ceiling.unwrap_or(f64::INFINITY).max(line.floor);
            line.fixed = x.map(|x| whole(x.clamp(line.floor, most)));
        }
        Edit::Margin(i, x) => file.lines[i].margin = x,
        Edit::MarginOfAll(x) => file.lines.iter_mut().for_each(|l| l.margin = x),
        Edit::GroupFloor(i, bound) => {
            let group = &mut file.groups[i];
            (group.floor, group.share_floor) = bound.parts();
        }
        Edit::GroupCeiling(i, bound) => {
            let group = &mut file.groups[i];
            (group.ceiling, group.share_ceiling) = bound.parts();
        }
        Edit::Shape(i, elasticity) => {
            let line = &mut file.lines[i];
            line.response = through_present(line, file.days, elasticity);
            // A curve drawn by hand has no evidence.
            line.precision = None;
        }
    }
}

impl Bound {
    fn parts(self) -> (Option<f64>, Option<f64>) {
        match self {
            Self::Money(x) => (x, None),
            Self::Share(x) => (None, x),
        }
    }
}

/// What contradicts itself, at the field that people will look at.
fn of_the_whole(error: &PlanFileError) -> FieldError {
    let text = error.to_string();
    let field = if text.starts_with("limits.min_conversions") {
        "min_conversions"
    } else if text.contains(".margin") {
        "margin"
    } else {
        "total"
    };
    FieldError::new(field, text.rsplit("; ").next().unwrap_or(&text))
}

/// A response of another shape that brings as much at the present spend.
fn through_present(line: &Line, days: f64, elasticity: Option<f64>) -> Response {
    let per_day = line.current / days;
    let conversions = present_conversions(line, days) / days;
    match (elasticity, line.cost_per_click()) {
        (Some(elasticity), _) if per_day > 0.0 => {
            Response::Power { scale: conversions / per_day.powf(elasticity), elasticity }
        }
        (None, Some(cpc)) if per_day > 0.0 => {
            Response::Constant { cpc, cvr: conversions / (per_day / cpc) }
        }
        _ => line.response,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file() -> PlanFile {
        let text = r#"{"format":"gold-tiller/plan@1","currency":"EUR","goal":"conversions","total":{"amount":1000,"use":"all"},"days":10,
            "lines":[{"id":"a","current":600,"cpc":2,"response":{"kind":"constant","cpc":2,"cvr":0.05}},
                     {"id":"b","current":400,"cpc":1,"response":{"kind":"constant","cpc":1,"cvr":0.02}}]}"#;
        PlanFile::read(text).unwrap()
    }

    fn fields(pairs: &[(&str, &str)]) -> Typed {
        pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
    }

    #[test]
    fn what_is_typed_is_taken() {
        let mut f = file();
        let errors = edit(
            &mut f,
            &fields(&[
                ("total", "+10%"),
                ("floor-0", "50%"),
                ("ceiling-1", "1.250,50"),
                ("max_change", "20"),
                ("use", "up_to"),
            ]),
        );
        assert!(errors.is_empty(), "{errors:?}");
        assert_eq!((f.total.amount, f.total.spend), (1100.0, Use::UpTo));
        assert_eq!(
            (f.lines[0].floor, f.lines[1].ceiling, f.limits.max_change),
            (300.0, Some(1250.5), Some(0.2))
        );
    }

    #[test]
    fn a_curve_passes_through_the_present() {
        let mut f = file();
        assert!(edit(&mut f, &fields(&[("shape-0", "power"), ("elasticity-0", "0,6")])).is_empty());
        assert!((present_conversions(&f.lines[0], f.days) - 15.0).abs() < 1e-9);
        assert!(matches!(f.lines[0].response, Response::Power { elasticity: 0.6, .. }));
        assert!(edit(&mut f, &fields(&[("shape-0", "constant")])).is_empty());
        assert!(
            matches!(f.lines[0].response, Response::Constant { cpc: 2.0, cvr } if (cvr - 0.05).abs() < 1e-12)
        );
    }

    #[test]
    fn errors_stand_at_their_fields_and_the_rest_is_kept() {
        let mut f = file();
        let errors = edit(
            &mut f,
            &fields(&[
                ("total", "much"),
                ("floor-0", "-3"),
                ("floor-1", "10"),
                ("shape-1", "power"),
                ("elasticity-1", "2"),
            ]),
        );
        let names: Vec<_> = errors.iter().map(|e| e.field.as_str()).collect();
        assert_eq!(names, ["total", "floor-0", "elasticity-1"]);
        assert_eq!((f.total.amount, f.lines[1].floor), (1000.0, 10.0));
        let least = edit(&mut file(), &fields(&[("goal", "least_spend")]));
        assert_eq!(least[0].field, "min_conversions");
    }
}
