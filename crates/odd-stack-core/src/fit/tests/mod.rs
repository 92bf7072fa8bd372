//! Tests of the fit on made-up games and packages.

mod corpus;
pub(super) mod game;
mod generated;
mod kinds;
mod layouts;
mod rows;
