//! Figures as text, in the forms that collectors read.

use crate::figures::{Figure, Labelled, Values};
use moorage_monitor::LAG_BOUNDS;
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, NoLabelSet, prometheus_text, text};
use prometheus_client::metrics::MetricType;
use prometheus_client::registry::{Registry, Unit};
use std::fmt;

/// What stands before all names.
const PREFIX: &str = "moorage";

/// A form of text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// OpenMetrics 1.0.
    OpenMetrics,
    /// The older text exposition format, version 0.0.4.
    Text,
}

impl Form {
    /// The form that is asked for: OpenMetrics if the asker takes it (RFC 9110, 12.5.1).
    pub(crate) fn of(accept: &str) -> Self {
        match accept.contains("application/openmetrics-text") {
            true => Self::OpenMetrics,
            false => Self::Text,
        }
    }

    /// What it is called.
    pub(crate) fn content_type(self) -> &'static str {
        match self {
            Self::OpenMetrics => "application/openmetrics-text; version=1.0.0; charset=utf-8",
            Self::Text => "text/plain; version=0.0.4; charset=utf-8",
        }
    }
}

/// All figures as text.
///
/// # Errors
/// Never, as it is written into memory; the library's encoders can fail elsewhere.
pub(crate) fn encode(figures: Vec<Figure>, form: Form) -> Result<String, fmt::Error> {
    let mut registry = Registry::with_prefix(PREFIX);
    registry.register_collector(Box::new(Figures(figures)));
    let mut out = String::new();
    match form {
        Form::OpenMetrics => text::encode(&mut out, &registry)?,
        Form::Text => prometheus_text::encode(&mut out, &registry)?,
    }
    Ok(out)
}

struct Figures(Vec<Figure>);

impl fmt::Debug for Figures {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} figures", self.0.len())
    }
}

fn unit(word: &str) -> Unit {
    match word {
        "seconds" => Unit::Seconds,
        "bytes" => Unit::Bytes,
        other => Unit::Other(other.into()),
    }
}

impl Collector for Figures {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), fmt::Error> {
        for figure in &self.0 {
            let unit = figure.unit.map(unit);
            let (kind, is_empty) = match &figure.values {
                Values::Counter(values) => (MetricType::Counter, values.is_empty()),
                Values::Gauge(values) => (MetricType::Gauge, values.is_empty()),
                Values::Histogram(values) => (MetricType::Histogram, values.is_empty()),
            };
            if is_empty {
                continue;
            }
            let mut family = encoder.encode_descriptor(figure.name, figure.help, unit.as_ref(), kind)?;
            match &figure.values {
                Values::Counter(values) => each(values, |labels, value| {
                    family.encode_family(labels)?.encode_counter::<NoLabelSet, _, f64>(value, None)
                })?,
                Values::Gauge(values) => {
                    each(values, |labels, value| family.encode_family(labels)?.encode_gauge(value))?;
                }
                Values::Histogram(values) => each(values, |labels, counts| {
                    let mut before = 0;
                    // The encoder wants how many are in each, and adds them up.
                    let mut buckets: Vec<(f64, u64)> = Vec::with_capacity(LAG_BOUNDS.len() + 1);
                    for (bound, up_to) in LAG_BOUNDS.iter().zip(&counts.up_to) {
                        buckets.push((bound.as_secs_f64(), up_to.saturating_sub(before)));
                        before = *up_to;
                    }
                    buckets.push((f64::INFINITY, counts.count.saturating_sub(before)));
                    let mut family = family.encode_family(labels)?;
                    family.encode_histogram::<NoLabelSet>(counts.sum_s, counts.count, &buckets, None)
                })?,
            }
        }
        Ok(())
    }
}

/// The labels of a figure, as the library takes them.
type Labels = Vec<(&'static str, String)>;

fn each<T>(
    values: &[Labelled<T>],
    mut encode: impl FnMut(&Labels, &T) -> Result<(), fmt::Error>,
) -> Result<(), fmt::Error> {
    values.iter().try_for_each(|(labels, value)| encode(labels, value))
}
