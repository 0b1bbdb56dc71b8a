//! Numbers as people type them: `1 250`, `1.250,50`, `12%`, `+10%` of what stands there, `20*7`.

/// Reads an amount. `base` is what a signed percentage refers to. Empty is none.
pub fn amount(text: &str, base: Option<f64>) -> Result<Option<f64>, String> {
    let text = text.trim().replace(['\u{a0}', '\u{202f}', '\u{2009}', ' '], "").replace('−', "-");
    if text.is_empty() {
        return Ok(None);
    }
    let wrong = || format!("‘{text}’ is not a number; write it like 1250, 1.250,50, +10% or 20*7");
    if let Some(percent) = text.strip_suffix('%') {
        let x = plain(percent).ok_or_else(wrong)? / 100.0;
        return match (percent.starts_with(['+', '-']), base) {
            (true, Some(base)) => Ok(Some(base + base * x)),
            (true, None) => {
                Err("there is nothing here that a percentage could be added to; write the amount"
                    .into())
            }
            (false, base) => Ok(Some(base.map_or(x, |b| b * x))),
        };
    }
    let mut product = 1.0;
    for factor in text.split(['*', '×']) {
        product *= plain(factor).ok_or_else(wrong)?;
    }
    Ok(Some(product))
}

/// Reads a share: `12%` or `0.12`. Empty is none.
pub fn share(text: &str) -> Result<Option<f64>, String> {
    match amount(text, None)? {
        Some(x) if (0.0..=100.0).contains(&x) => Ok(Some(x)),
        None => Ok(None),
        Some(_) => Err(format!("‘{}’ is not a share; write it like 20%", text.trim())),
    }
}

/// The last mark is the decimal one, unless all marks are alike and group digits by threes: `1,250`, `1.250.000`. A
/// lone point is always decimal.
fn plain(text: &str) -> Option<f64> {
    let text = text.strip_prefix('+').unwrap_or(text).replace('\'', "");
    let (sign, digits) = text.strip_prefix('-').map_or((1.0, text.as_str()), |rest| (-1.0, rest));
    let decimal = match digits.rfind(['.', ',']) {
        Some(at) if digits[at..].starts_with('.') && digits.matches('.').count() == 1 => Some(at),
        at => at.filter(|_| grouped(digits).is_none()),
    };
    let (whole, part) = decimal.map_or((digits, ""), |at| (&digits[..at], &digits[at + 1..]));
    let whole = grouped(whole)?;
    let all = format!("{whole}.{part}");
    let ok = all.len() > 1
        && all.len() < 19
        && all.bytes().filter(|b| *b != b'.').all(|b| b.is_ascii_digit());
    if ok { all.parse::<f64>().ok().map(|x| sign * x) } else { None }
}

/// Digits without the marks that group them by threes; none where marks don't. Nothing begins with a group of 0.
fn grouped(digits: &str) -> Option<String> {
    let marks: Vec<char> = digits.chars().filter(|c| !c.is_ascii_digit()).collect();
    if marks.windows(2).any(|w| w[0] != w[1]) {
        return None;
    }
    let mut groups = digits.split(['.', ',']);
    let first = groups.next().unwrap_or_default();
    let fits = (1..=3).contains(&first.len()) && !first.starts_with('0');
    (marks.is_empty() || (fits && groups.all(|g| g.len() == 3)))
        .then(|| digits.replace(['.', ','], ""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_as_people_type_them() {
        let read = |t: &str| amount(t, Some(200.0)).unwrap();
        assert_eq!(read("1 250"), Some(1250.0));
        assert_eq!(read("1.250,50"), Some(1250.5));
        assert_eq!(read("1,250.50"), Some(1250.5));
        assert_eq!(read("1,250"), Some(1250.0));
        assert_eq!(read("12,5"), Some(12.5));
        assert_eq!(read("12.5"), Some(12.5));
        assert_eq!((read("1.250.000"), read("1,250,000.5")), (Some(1.25e6), Some(1_250_000.5)));
        assert_eq!(
            (read("0,125"), read("0.125"), read("1.250")),
            (Some(0.125), Some(0.125), Some(1.25))
        );
        assert_eq!(
            (read("1'250.50"), read(".5"), read("5,"), read("-7,25")),
            (Some(1250.5), Some(0.5), Some(5.0), Some(-7.25))
        );
        assert_eq!(read("20*7"), Some(140.0));
        assert_eq!(read("+10%"), Some(220.0));
        assert_eq!(read("−10%"), Some(180.0));
        assert_eq!(read("50%"), Some(100.0));
        assert_eq!(read("  "), None);
        assert_eq!(share("20%").unwrap(), Some(0.2));
    }

    #[test]
    fn what_is_no_number_is_said_so() {
        for text in [
            "abc",
            "1e5",
            "12%%",
            "5*",
            "--5",
            "1.2.3,4,5x",
            "1.2.3",
            "1,25,000",
            "1.250,50,5",
            ".",
            "inf",
            "NaN",
        ] {
            assert!(amount(text, None).is_err(), "{text}");
        }
        assert!(amount("+10%", None).is_err());
        assert!(share("-20%").is_err());
    }
}
