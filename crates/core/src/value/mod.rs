//! Single values and columns of them: what is equal, how it is written, what converts to what.

pub mod canonical;
pub mod column;
pub mod convert;
pub mod decimal;
pub mod interval;
pub mod moment;
