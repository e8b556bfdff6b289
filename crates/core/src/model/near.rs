//! Near misses: what someone may have meant.

/// Up to three names that are nearly this one, the nearest first.
pub fn near<T: AsRef<str>>(text: &str, names: impl IntoIterator<Item = T>) -> Vec<String> {
    let wanted = text.to_lowercase();
    let mut close: Vec<(f64, String)> = names
        .into_iter()
        .map(|n| (strsim::jaro_winkler(&wanted, &n.as_ref().to_lowercase()), n.as_ref().to_string()))
        .filter(|(likeness, _)| *likeness >= 0.85)
        .collect();
    close.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
    close.dedup_by(|a, b| a.1 == b.1);
    let least = close.first().map_or(0.0, |best| best.0 - 0.08);
    close.into_iter().filter(|(likeness, _)| *likeness >= least).take(3).map(|(_, name)| name).collect()
}
