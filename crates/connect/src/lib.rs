//! Everything that speaks to the outside: intakes, landings and ledgers, one folder a kind.
//!
//! Each intake folder holds `mod.rs` (the kind and its options) and `reader.rs`; each landing folder `mod.rs`,
//! `stage.rs` and `publish.rs`. [`registry`] is the one table in which all of them are found by name.

pub mod broker;
pub mod conversions;
pub mod databases;
pub mod intakes;
pub mod landings;
pub mod ledgers;
pub mod local;
pub mod look;
pub mod packed;
pub mod recipients;
#[cfg(test)]
mod testing;

use sluice_core::kinds::{ConnectionKind, Registry};

/// All kinds.
pub fn registry() -> Registry {
    let mut registry = Registry::default();
    registry.add_connection(ConnectionKind {
        scheme: "file",
        about: "a folder on this machine, relative to the project: file:DIR",
        options: &[],
    });
    registry.add_connection(ConnectionKind { scheme: "screen", about: "the terminal; always there", options: &[] });
    registry.add_connection(broker::KIND);
    registry.add_intake(intakes::files::Files);
    registry.add_intake(intakes::topics::Topics);
    registry.add_intake(intakes::postgres::Postgres);
    registry.add_intake(intakes::mariadb::Mariadb);
    registry.add_landing(landings::files::Files);
    registry.add_landing(landings::screen::Screen);
    registry.add_landing(landings::topics::Topics);
    landings::postgres::register(&mut registry);
    landings::mariadb::register(&mut registry);
    landings::sqlite::register(&mut registry);
    landings::clickhouse::register(&mut registry);
    registry.keep_rejects(landings::files::open_rejects);
    registry
}

#[cfg(test)]
mod tests {
    use sluice_core::config::{OptionSpec, ValueKind, each, notice, pipeline, project};

    fn all_tables() -> Vec<(String, &'static [OptionSpec])> {
        let registry = super::registry();
        let mut tables: Vec<(String, &'static [OptionSpec])> = vec![
            ("sluice.toml".into(), project::FILE_OPTIONS),
            ("connection".into(), project::CONNECTION_OPTIONS),
            ("notice".into(), notice::NOTICE_OPTIONS),
            ("recipient".into(), notice::RECIPIENT_OPTIONS),
            ("pipeline".into(), pipeline::FILE_OPTIONS),
            ("event".into(), pipeline::EVENT_OPTIONS),
            ("each".into(), each::EACH_OPTIONS),
            ("arrives".into(), pipeline::ARRIVAL_OPTIONS),
            ("arrives".into(), sluice_core::formats::OPTIONS),
            ("lands".into(), pipeline::LANDING_OPTIONS),
        ];
        tables.extend(registry.connections().map(|k| (k.scheme.to_string(), k.options)));
        tables.extend(registry.intakes().map(|k| (format!("intake {}", k.name()), k.options())));
        tables.extend(registry.landings().map(|k| (format!("landing {}", k.name()), k.options())));
        let mut at = 0;
        while at < tables.len() {
            for option in tables[at].1 {
                if let ValueKind::Table(inner) = option.value {
                    tables.push((option.key.to_string(), inner));
                }
            }
            at += 1;
        }
        tables
    }

    #[test]
    fn every_option_has_a_sound_default_and_a_line_of_help() {
        for (table, options) in all_tables() {
            for (i, option) in options.iter().enumerate() {
                assert!(option.default_is_sound(), "{table}.{}: {:?}", option.key, option.default);
                assert!(!option.help.is_empty() && !option.help.ends_with('.'), "{table}.{}", option.key);
                assert!(options[..i].iter().all(|o| o.key != option.key), "{table}.{} is declared twice", option.key);
            }
        }
    }

    #[test]
    fn what_an_option_goes_with_is_there() {
        let tables = all_tables();
        let known = |key: &str| tables.iter().any(|(_, options)| options.iter().any(|o| o.key == key));
        for option in tables.iter().flat_map(|(_, options)| options.iter()) {
            assert!(option.goes_with.iter().all(|k| known(k) && *k != option.key), "{}", option.key);
        }
    }

    #[test]
    fn kinds_do_not_declare_what_all_have() {
        let registry = super::registry();
        let common = |keys: &[OptionSpec], own: &[OptionSpec]| own.iter().any(|o| keys.iter().any(|k| k.key == o.key));
        assert!(!registry.intakes().any(|k| common(pipeline::ARRIVAL_OPTIONS, k.options())));
        assert!(!registry.landings().any(|k| common(pipeline::LANDING_OPTIONS, k.options())));
    }
}

#[cfg(test)]
#[path = "../../core/testing/mutate.rs"]
mod mutate;
