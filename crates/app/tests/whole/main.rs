//! The whole program as its users meet it: the commands, the server over HTTP, and the pages in a
//! browser. `bin/test` starts the PostgreSQL that the servers use.
#![allow(
    clippy::disallowed_methods,
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic
)]

mod abuse;
mod account;
mod api;
mod authority;
mod background;
mod browser;
mod cli;
mod climate;
mod drafts;
mod field;
mod frozen;
mod http;
mod keying;
mod library;
mod metrics;
mod offline;
mod owner;
mod pages;
mod people;
mod programs;
mod round;
mod round_robin;
mod route;
mod sensor_forms;
mod sensors;
mod server;
mod services;
mod trial;
mod tuning;
mod two_servers;
mod weather_room;
mod words;
