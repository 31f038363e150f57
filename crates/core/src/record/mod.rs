//! What was recorded: the documents, and the ledger, which answers questions about them.

pub mod ledger;
pub mod receipt;
