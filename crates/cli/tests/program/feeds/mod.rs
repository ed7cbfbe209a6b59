//! Tables that are followed through change feeds.

mod audit;
mod crash;
mod failover;
mod follow;
mod grammar;
mod lookup;
mod mariadb_crash;
mod mariadb_log;
mod mariadb_server;
mod mariadb_values;
mod schema;
mod silent;
mod values;
