//! The figures of pipelines: what is counted and measured, by pipeline and table, with its name and unit.

use chrono::{DateTime, Utc};
use moorage_adapter::Usage;
use moorage_core::change::counters::Operations;
use moorage_core::watch::alerts::seen::{Seen, Stands};
use moorage_core::watch::meter::TableTotals;
use moorage_monitor::{LagCounts, Published, Standings};
use std::collections::BTreeMap;

/// What is known of a pipeline.
pub(crate) struct Known {
    pub(crate) pipeline: String,
    pub(crate) seen: Seen,
    pub(crate) published: Published,
    pub(crate) tables: Vec<(String, TableTotals)>,
    pub(crate) standings: Standings,
    /// How many alerts are raised, by rule; also of those of which none is.
    pub(crate) alerts: BTreeMap<String, u64>,
}

/// A figure with its labels.
pub(crate) type Labelled<T> = (Vec<(&'static str, String)>, T);

/// What is told of a figure.
pub(crate) enum Values {
    /// What only grows, until the run ends.
    Counter(Vec<Labelled<u64>>),
    /// What goes up and down.
    Gauge(Vec<Labelled<f64>>),
    /// How often which durations were seen.
    Histogram(Vec<Labelled<LagCounts>>),
}

/// A figure of all pipelines.
pub(crate) struct Figure {
    /// Its name, without what its unit and its kind put behind it.
    pub(crate) name: &'static str,
    /// What it is.
    pub(crate) help: &'static str,
    /// `seconds`, `bytes`; none where it is a number of things, and of histograms, of which some collectors do not take one: it
    /// stands in their names.
    pub(crate) unit: Option<&'static str>,
    pub(crate) values: Values,
}

/// All figures, of so many tables of each pipeline at most.
pub(crate) fn figures(all: &[Known], most_tables: usize) -> Vec<Figure> {
    let mut figures = of_running(all);
    figures.extend(of_lag(all));
    figures.extend(of_changes(all));
    figures.extend(of_room(all));
    figures.extend(of_usage(all));
    figures.extend(of_standings(all));
    figures.extend(of_tables(all, most_tables));
    figures
}

fn gauge(
    all: &[Known],
    (name, unit): (&'static str, Option<&'static str>),
    help: &'static str,
    value: impl Fn(&Known) -> Option<f64>,
) -> Figure {
    let values = all.iter().filter_map(|known| Some((of(known), value(known)?)));
    Figure { name, help, unit, values: Values::Gauge(values.collect()) }
}

fn counter(
    all: &[Known],
    (name, unit): (&'static str, Option<&'static str>),
    help: &'static str,
    value: impl Fn(&Known) -> u64,
) -> Figure {
    let values = all.iter().map(|known| (of(known), value(known)));
    Figure { name, help, unit, values: Values::Counter(values.collect()) }
}

fn of(known: &Known) -> Vec<(&'static str, String)> {
    vec![("pipeline", known.pipeline.clone())]
}

fn with(known: &Known, label: &'static str, value: &str) -> Vec<(&'static str, String)> {
    vec![("pipeline", known.pipeline.clone()), (label, value.into())]
}

fn number(yes: bool) -> f64 {
    if yes { 1.0 } else { 0.0 }
}

fn unix(at: DateTime<Utc>) -> f64 {
    at.timestamp_micros() as f64 / 1e6
}

fn of_running(all: &[Known]) -> Vec<Figure> {
    let runs = |known: &Known| matches!(known.seen.stands, Some(Stands::Runs));
    let retries = |known: &Known| matches!(known.seen.stands, Some(Stands::Retries { .. }));
    vec![
        gauge(
            all,
            ("pipeline_running", None),
            "Whether changes are followed or rows are read, and nothing is tried again",
            |k| Some(number(runs(k))),
        ),
        gauge(all, ("pipeline_retrying", None), "Whether something failed and is tried again", |k| {
            Some(number(retries(k)))
        }),
        counter(all, ("retries", None), "How often something was tried again in this run", |k| {
            k.published.sums.retries
        }),
        counter(all, ("warnings", None), "Warnings of this run", |k| k.published.sums.warnings),
    ]
}

fn of_lag(all: &[Known]) -> Vec<Figure> {
    let steps = |known: &Known| {
        let lags = &known.published.lags;
        [("capture", &lags.capture), ("queue", &lags.queue), ("apply", &lags.apply)]
            .map(|(step, counts)| (with(known, "step", step), counts.clone()))
    };
    let whole = |known: &Known| (of(known), known.published.lags.whole.clone());
    vec![
        gauge(
            all,
            ("behind", Some("seconds")),
            "How far the target is behind the source now, also while nothing is applied",
            |k| k.seen.behind.map(|behind| behind.as_secs_f64()),
        ),
        gauge(
            all,
            ("complete_until_timestamp", Some("seconds")),
            "Everything that was committed in the source before this moment is in the target",
            |k| k.published.complete_until.map(unix),
        ),
        Figure {
            name: "transaction_lag_seconds",
            help: "From the commit of a transaction in the source until the target has committed it, in this run",
            unit: None,
            values: Values::Histogram(all.iter().map(whole).collect()),
        },
        Figure {
            name: "transaction_lag_step_seconds",
            help: "Its steps: capture (until it was read), queue (until its batch was taken up), apply (until the target had committed)",
            unit: None,
            values: Values::Histogram(all.iter().flat_map(steps).collect()),
        },
        gauge(
            all,
            ("clock_skew", Some("seconds")),
            "The clock of the source minus that of this machine",
            |k| Some(k.published.clock_skew_us as f64 / 1e6),
        ),
    ]
}

fn by_operation(labels: impl Fn(&str) -> Vec<(&'static str, String)>, of: &Operations) -> [Labelled<u64>; 4] {
    [("insert", of.inserts), ("update", of.updates), ("delete", of.deletes), ("truncate", of.truncates)]
        .map(|(operation, count)| (labels(operation), count))
}

fn of_changes(all: &[Known]) -> Vec<Figure> {
    let changes =
        all.iter().flat_map(|k| by_operation(|of| with(k, "operation", of), &k.published.sums.operations));
    vec![
        Figure {
            name: "changes_applied",
            help: "Changes of rows that were applied in this run",
            unit: None,
            values: Values::Counter(changes.collect()),
        },
        counter(all, ("applied", Some("bytes")), "Their bytes as read from the source", |k| {
            k.published.sums.bytes
        }),
        counter(
            all,
            ("transactions_applied", None),
            "Transactions of the source that were applied in this run",
            |k| k.published.sums.transactions,
        ),
        counter(all, ("merges", None), "Batches that the target committed in this run", |k| {
            k.published.sums.merges
        }),
        counter(all, ("snapshot_rows", None), "Rows that were read by snapshot in this run", |k| {
            k.published.sums.snapshot_rows
        }),
    ]
}

fn of_room(all: &[Known]) -> Vec<Figure> {
    let bytes = |value: Option<u64>| value.map(|bytes| bytes as f64);
    vec![
        gauge(all, ("unread", Some("bytes")), "What of the source is yet to be read", |k| {
            bytes(k.published.unread_bytes)
        }),
        gauge(all, ("source_kept", Some("bytes")), "What the source keeps for the pipeline", |k| {
            bytes(k.published.kept_bytes)
        }),
        gauge(all, ("source_limit", Some("bytes")), "What the source may keep for the pipeline", |k| {
            bytes(k.published.limit_bytes)
        }),
        gauge(all, ("on_the_way_changes", None), "Changes that were read and are not applied yet", |k| {
            Some(k.published.on_the_way.0 as f64)
        }),
        gauge(all, ("on_the_way", Some("bytes")), "Their bytes", |k| Some(k.published.on_the_way.1 as f64)),
    ]
}

/// A figure of usage: name, unit, help, and which it is.
type OfUsage = (&'static str, Option<&'static str>, &'static str, fn(&Usage) -> u64);

fn of_usage(all: &[Known]) -> Vec<Figure> {
    let parts: [OfUsage; 4] = [
        ("connections_opened", None, "Connections to each end that this process opened", |u| u.connections),
        ("statements", None, "Statements that it ran there", |u| u.statements),
        ("received", Some("bytes"), "What came from there", |u| u.received_bytes),
        ("sent", Some("bytes"), "What went there", |u| u.sent_bytes),
    ];
    let ends = |known: &Known| {
        [("source", known.published.source_usage), ("target", known.published.target_usage)]
            .map(|(end, usage)| (with(known, "end", end), usage))
    };
    let figure = |(name, unit, help, which): OfUsage| {
        let values = all.iter().flat_map(ends).filter_map(|(labels, usage)| Some((labels, which(&usage?))));
        Figure { name, help, unit, values: Values::Counter(values.collect()) }
    };
    parts.into_iter().map(figure).collect()
}

fn of_standings(all: &[Known]) -> Vec<Figure> {
    let states = all.iter().flat_map(|known| {
        let mut states: BTreeMap<&str, u64> = BTreeMap::new();
        let tables = known.standings.tables.iter().filter(|table| !table.state.is_empty());
        tables.for_each(|table| *states.entry(table.state.as_str()).or_default() += 1);
        states
            .into_iter()
            .map(|(state, count)| (with(known, "state", state), count as f64))
            .collect::<Vec<_>>()
    });
    let alerts = all.iter().flat_map(|known| {
        known.alerts.iter().map(|(alert, raised)| (with(known, "alert", alert), *raised as f64))
    });
    let failed = |known: &Known| known.standings.tables.iter().filter(|table| table.failed.is_some()).count();
    vec![
        Figure {
            name: "tables",
            help: "Tables by how far they have come",
            unit: None,
            values: Values::Gauge(states.collect()),
        },
        gauge(all, ("tables_failed", None), "Tables that are to be read again, or left out", |k| {
            Some(failed(k) as f64)
        }),
        gauge(all, ("tables_broken_off", None), "Tables whose reading was broken off", |k| {
            Some(k.published.broken_off.len() as f64)
        }),
        gauge(all, ("drift_undecided", None), "Changes of structure that wait for a decision", |k| {
            Some(k.standings.undecided.len() as f64)
        }),
        gauge(all, ("rejects", None), "Changes that are set aside", |k| {
            Some(k.standings.tables.iter().map(|table| table.rejects).sum::<u64>() as f64)
        }),
        Figure {
            name: "alerts_raised",
            help: "How often each alert of the project file is raised now",
            unit: None,
            values: Values::Gauge(alerts.collect()),
        },
    ]
}

fn of_tables(all: &[Known], most: usize) -> Vec<Figure> {
    // Those that have figures at all, by name: so that it is the same ones each time.
    let shown = |known: &Known| {
        let tables: Vec<(String, TableTotals)> = known.tables.iter().take(most).cloned().collect();
        tables
    };
    let changes = all.iter().flat_map(|known| {
        shown(known).into_iter().flat_map(move |(table, totals)| {
            let labels = |operation: &str| {
                let mut labels = with(known, "table", &table);
                labels.push(("operation", operation.into()));
                labels
            };
            by_operation(labels, &totals.operations)
        })
    });
    let lag = all.iter().flat_map(|known| {
        let timed = shown(known).into_iter().filter(|(_, totals)| totals.committed_at.is_some());
        timed.map(|(table, totals)| (with(known, "table", &table), totals.lag_us as f64 / 1e6))
    });
    vec![
        Figure {
            name: "table_changes_applied",
            help: "Changes of rows of a table that were applied in this run",
            unit: None,
            values: Values::Counter(changes.collect()),
        },
        Figure {
            name: "table_lag",
            help: "The lag of the last transaction that changed a table in this run",
            unit: Some("seconds"),
            values: Values::Gauge(lag.collect()),
        },
        gauge(
            all,
            ("tables_not_shown", None),
            "Tables that were changed in this run and have no figures of their own, because there are too many",
            |k| Some(k.tables.len().saturating_sub(most) as f64),
        ),
    ]
}
