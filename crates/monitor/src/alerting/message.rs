//! A message as it goes out: an event in the form of CloudEvents 1.0 (structured mode, JSON), or by a template.

use chrono::SecondsFormat;
use moorage_core::watch::alerts::step::{Notice, Said};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What a URI reference may hold as it is (RFC 3986, 2.3: unreserved).
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

fn encoded(text: &str) -> String {
    utf8_percent_encode(text, UNRESERVED).to_string()
}

/// A message with its number, which is the same however often it is sent.
#[derive(Clone, Debug)]
pub struct Message {
    /// A UUID.
    pub id: String,
    /// Where it comes from: the name of this machine.
    pub host: String,
    /// What is said.
    pub notice: Notice,
}

impl Message {
    /// What it is about, in one line.
    pub fn summary(&self) -> String {
        let Notice { key, said, what, .. } = &self.notice;
        let about = match &key.table {
            Some(table) => format!("{}, {table}", key.pipeline),
            None => key.pipeline.clone(),
        };
        match said {
            Said::Raised | Said::Happened => format!("{about}: {what}"),
            Said::Repeated => format!("{about}: still {what}"),
            Said::Cleared => format!("{about}: over: {what}"),
            Said::Test => format!("{about}: a test: {what}"),
        }
    }

    fn since(&self) -> String {
        self.notice.since.to_rfc3339_opts(SecondsFormat::Secs, true)
    }

    fn at(&self) -> String {
        self.notice.at.to_rfc3339_opts(SecondsFormat::Millis, true)
    }

    /// The same for all messages of one alert, from raised to cleared.
    fn key(&self) -> String {
        let key = &self.notice.key;
        let parts = [Some(&key.pipeline), Some(&key.alert), key.table.as_ref()];
        parts.into_iter().flatten().map(|part| encoded(part)).collect::<Vec<_>>().join("/")
    }

    /// The event (CloudEvents 1.0, JSON Event Format 1.0).
    pub fn event(&self) -> Value {
        let Notice { key, condition, said, what, next, drift, .. } = &self.notice;
        let subject = key.table.iter().fold(key.pipeline.clone(), |of, table| format!("{of}/{table}"));
        let drift = drift.as_ref().map(|drift| {
            let columns = drift.columns.iter().map(|(before, after)| json!({ "before": before, "after": after }));
            json!({ "id": drift.id, "what": drift.what, "columns": columns.collect::<Vec<_>>(), "done": drift.done })
        });
        json!({
            "specversion": "1.0",
            "id": self.id,
            "source": format!("/moorage/{}", encoded(&self.host)),
            "type": format!("moorage.alert.{}", said.word()),
            "subject": subject,
            "time": self.at(),
            "datacontenttype": "application/json",
            "data": {
                "alert": key.alert,
                "condition": condition,
                "state": said.word(),
                "pipeline": key.pipeline,
                "table": key.table,
                "what": what,
                "since": self.since(),
                "next": next,
                "summary": self.summary(),
                "key": self.key(),
                "drift": drift,
            },
        })
    }

    /// What a word of a template stands for; none if there is no such word.
    fn word(&self, word: &str, states: &BTreeMap<String, String>) -> Option<String> {
        let notice = &self.notice;
        let state = notice.said.word();
        Some(match word {
            "alert" => notice.key.alert.clone(),
            "condition" => notice.condition.clone(),
            "state" => states.get(state).cloned().unwrap_or_else(|| state.into()),
            "pipeline" => notice.key.pipeline.clone(),
            "table" => notice.key.table.clone().unwrap_or_default(),
            "what" => notice.what.clone(),
            "since" => self.since(),
            "next" => notice.next.clone(),
            "summary" => self.summary(),
            "host" => self.host.clone(),
            "time" => self.at(),
            "id" => self.id.clone(),
            "key" => self.key(),
            _ => return None,
        })
    }

    /// The text of a mail or of a line.
    pub fn text(&self) -> String {
        let Notice { key, next, said, drift, .. } = &self.notice;
        let mut lines =
            vec![self.summary(), String::new(), format!("alert     {} ({})", key.alert, said.word())];
        lines.push(format!("pipeline  {}", key.pipeline));
        lines.extend(key.table.as_ref().map(|table| format!("table     {table}")));
        lines.push(format!("since     {}", self.since()));
        for (before, after) in drift.iter().flat_map(|drift| &drift.columns) {
            let shown = |column: &Option<String>| column.clone().unwrap_or_else(|| "none".into());
            lines.push(format!("column    {} -> {}", shown(before), shown(after)));
        }
        if *said != Said::Cleared {
            lines.push(format!("next      {next}"));
        }
        lines.push(format!("host      {}", self.host));
        lines.join("\n") + "\n"
    }
}

/// How values are written into a template, by the type of what comes out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Escaping {
    /// Within a JSON text.
    Json,
    /// Within a form (application/x-www-form-urlencoded).
    Form,
    /// As they are.
    Plain,
}

impl Escaping {
    fn of(content_type: &str) -> Self {
        let plain = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        match plain.as_str() {
            "application/x-www-form-urlencoded" => Self::Form,
            json if json.ends_with("/json") || json.ends_with("+json") => Self::Json,
            _ => Self::Plain,
        }
    }

    fn write(self, value: &str) -> String {
        match self {
            Self::Json => {
                let quoted = Value::from(value).to_string();
                quoted.get(1..quoted.len() - 1).unwrap_or_default().to_string()
            }
            Self::Form => encoded(value),
            Self::Plain => value.into(),
        }
    }
}

/// A body with `{words}` in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    text: String,
    content_type: String,
    /// Other words for `raised`, `repeated`, `cleared`, `happened` and `test`.
    states: BTreeMap<String, String>,
}

/// A part of a template: text, or a word in braces.
fn parts(text: &str) -> Vec<(bool, &str)> {
    let mut parts = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        let (before, from) = rest.split_at(at);
        let end = from[1..].find(|c: char| !c.is_ascii_lowercase()).map_or(from.len(), |end| end + 1);
        parts.push((false, before));
        if end > 1 && from[end..].starts_with('}') {
            parts.push((true, &from[1..end]));
            rest = &from[end + 1..];
        } else {
            parts.push((false, &from[..1]));
            rest = &from[1..];
        }
    }
    parts.push((false, rest));
    parts
}

impl Template {
    /// The words there are.
    pub(super) const WORDS: [&str; 13] = [
        "alert",
        "condition",
        "state",
        "pipeline",
        "table",
        "what",
        "since",
        "next",
        "summary",
        "host",
        "time",
        "id",
        "key",
    ];

    /// Reads a template.
    ///
    /// # Errors
    /// With the word in braces that there is not.
    pub(super) fn new(
        text: &str,
        content_type: &str,
        states: BTreeMap<String, String>,
    ) -> Result<Self, String> {
        match parts(text).into_iter().find(|(is_word, part)| *is_word && !Self::WORDS.contains(part)) {
            Some((_, word)) => Err(word.into()),
            None => Ok(Self { text: text.into(), content_type: content_type.into(), states }),
        }
    }

    /// The type of what comes out.
    pub(super) fn content_type(&self) -> &str {
        &self.content_type
    }

    /// The body of a message.
    pub(super) fn render(&self, message: &Message) -> String {
        let escaping = Escaping::of(&self.content_type);
        let part = |(is_word, part): (bool, &str)| match is_word {
            true => escaping.write(&message.word(part, &self.states).unwrap_or_default()),
            false => part.to_string(),
        };
        parts(&self.text).into_iter().map(part).collect()
    }
}
