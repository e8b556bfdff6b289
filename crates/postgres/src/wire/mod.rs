//! What both ends share of the server: its address, connections, protocol, types and values.

pub(crate) mod address;
pub(crate) mod binary;
pub(crate) mod certificate;
pub(crate) mod connect;
pub(crate) mod copy_text;
pub(crate) mod encode;
pub(crate) mod error;
pub(crate) mod link;
pub(crate) mod lsn;
pub mod pgoutput;
pub(crate) mod protection;
pub(crate) mod replication;
pub(crate) mod roles;
pub(crate) mod server;
pub(crate) mod sort;
pub(crate) mod tls;
pub(crate) mod trouble;
pub(crate) mod types;
pub(crate) mod values;
pub(crate) mod waits;
pub(crate) mod written;
