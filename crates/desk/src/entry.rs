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

/// The last mark before one or two digits is the decimal one; marks before three digits group them.
fn plain(text: &str) -> Option<f64> {
    let text = text.strip_prefix('+').unwrap_or(text).replace('\'', "");
    let (last, other) = match (text.rfind('.'), text.rfind(',')) {
        (Some(dot), Some(comma)) if dot > comma => ('.', ','),
        (Some(_), Some(_)) => (',', '.'),
        (Some(_), None) => ('.', ','),
        (None, _) => (',', '.'),
    };
    let text = text.replace(other, "");
    let grouped = text.matches(last).count() > 1
        || (last == ','
            && text.rsplit(last).next().is_some_and(|d| d.len() == 3)
            && text.contains(last));
    let text = if grouped { text.replace(last, "") } else { text.replace(last, ".") };
    let digits = text.strip_prefix('-').unwrap_or(&text);
    let ok = !digits.is_empty()
        && digits.bytes().all(|b| b.is_ascii_digit() || b == b'.')
        && digits.len() < 18;
    if ok { text.parse().ok() } else { None }
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
        assert_eq!(read("20*7"), Some(140.0));
        assert_eq!(read("+10%"), Some(220.0));
        assert_eq!(read("−10%"), Some(180.0));
        assert_eq!(read("50%"), Some(100.0));
        assert_eq!(read("  "), None);
        assert_eq!(share("20%").unwrap(), Some(0.2));
    }

    #[test]
    fn what_is_no_number_is_said_so() {
        for text in ["abc", "1e5", "12%%", "5*", "--5", "1.2.3,4,5x", "inf", "NaN"] {
            assert!(amount(text, None).is_err(), "{text}");
        }
        assert!(amount("+10%", None).is_err());
        assert!(share("-20%").is_err());
    }
}
