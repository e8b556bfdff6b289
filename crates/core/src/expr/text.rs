//! From text to the parser's tree, within bounds: nothing that stands in a project file takes memory or stack without end.

use crate::model::sql::quote_ident;
use sqlparser::ast::DataType;
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Token, Tokenizer};

/// The longest text, in bytes: room for tens of thousands of values behind IN.
const MOST_BYTES: usize = 1 << 20;

/// From this length on the parser's tree may be so deep, along a chain of operators, that letting go of it needs a
/// stack of its own: about 500 bytes for each two bytes of text.
const SMALL_BYTES: usize = 2000;

const LARGE_STACK_BYTES: usize = 320 << 20;

pub(super) fn data_type(text: &str) -> Result<DataType, String> {
    if text.len() > 1000 {
        return Err("no type has so long a name".into());
    }
    read(text, |parser| parser.parse_data_type())
}

/// Runs with a stack that is large enough for any tree that this text can give.
pub(super) fn with_room<T: Send>(
    text: &str,
    work: impl FnOnce() -> Result<T, String> + Send,
) -> Result<T, String> {
    if text.len() > MOST_BYTES {
        return Err(format!("it is {} bytes long, and may have {MOST_BYTES}", text.len()));
    }
    if text.len() <= SMALL_BYTES {
        return work();
    }
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(LARGE_STACK_BYTES).spawn_scoped(scope, work);
        let thread = thread.map_err(|e| format!("there is no room to read it: {e}"))?;
        thread.join().unwrap_or_else(|_| Err("it cannot be read".into()))
    })
}

/// A text with other names of columns in it, in double quotes. What is no name of a column stays: names of functions, which have a
/// bracket behind them, and of types, which have two colons before them.
pub fn with_names(text: &str, called: impl Fn(&str) -> Option<String>) -> String {
    let Ok(tokens) = Tokenizer::new(&PostgreSqlDialect {}, text).tokenize() else { return text.into() };
    let is_blank = |token: &&Token| !matches!(token, Token::Whitespace(_));
    let other = |at: usize, token: &Token| {
        let Token::Word(word) = token else { return None };
        let is_call = tokens[at + 1..].iter().find(is_blank) == Some(&Token::LParen);
        let is_type = tokens[..at].iter().rfind(is_blank) == Some(&Token::DoubleColon);
        if is_call || is_type { None } else { called(&word.value) }
    };
    let written = tokens.iter().enumerate().map(|(at, token)| match other(at, token) {
        Some(name) => quote_ident(&name),
        None => token.to_string(),
    });
    written.collect()
}

pub(super) fn read<T>(
    text: &str,
    part: impl FnOnce(&mut Parser<'_>) -> Result<T, sqlparser::parser::ParserError>,
) -> Result<T, String> {
    let plain = |e: sqlparser::parser::ParserError| {
        e.to_string()
            .replace("sql parser error: ", "")
            .replace("recursion limit exceeded", "it is nested too deep")
    };
    let mut parser = Parser::new(&PostgreSqlDialect {}).try_with_sql(text).map_err(plain)?;
    let found = part(&mut parser).map_err(plain)?;
    parser.expect_token(&Token::EOF).map_err(plain)?;
    Ok(found)
}
