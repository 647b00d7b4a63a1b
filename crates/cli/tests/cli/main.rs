//! The built binary, driven on files in a temporary folder: one test binary, a module for each concern.
//!
//! `coast` is a harbor in the miniature internet of the stand-ins; `real` drives nginx, Apache httpd, BIND and the
//! test CA of the `pebble` package, and fails where one of them is missing.

#![allow(clippy::unwrap_used)]

mod accounts;
mod attaching;
mod attacks;
mod before_orders;
mod browser;
mod certificates;
mod coast;
mod completions;
mod concurrency;
mod contract;
mod daily_way;
mod delegations;
mod demands;
mod demo;
mod dry_runs;
mod faults;
mod first_day;
mod floors;
mod former;
mod former_zone;
mod issuing;
mod killed_orders;
mod listing_page;
mod lists;
mod loading;
mod loose_files;
mod lost_answers;
mod many_surveys;
mod nameservers;
mod notices;
mod package;
mod pages;
mod patience;
mod pictures;
mod plans;
mod programs;
mod real;
mod records;
mod redirects;
mod refusal_codes;
mod refusals;
mod report;
mod revoking;
mod schemas;
mod services;
mod settings_again;
mod silent_ca;
mod sites;
mod stops;
mod structure;
mod telling;
mod undoing;
mod voyage;
mod zones;
mod zones_in_step;
