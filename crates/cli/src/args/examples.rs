//! Examples at the end of each command's help. Those that name `weighings` work in the project that `sluice demo` makes.

pub(crate) const INIT: &str = "Examples:\n  sluice init\n  sluice init tarrow --name tarrow";

pub(crate) const PEEK: &str = "Examples:\n  sluice peek depots/arlen-basin/2026-04-01.jsonl\n  \
    sluice peek weighings.weighing --events 500 --show 2\n  \
    sluice peek weighings.weighing.desk --when \"gross_kg > 20000\"\n  \
    sluice peek lock-broker:lock.passages --since 2h";

pub(crate) const DRAFT: &str = "Examples:\n  sluice draft tickets depots:arlen-basin/*.jsonl --print\n  \
    sluice draft passages lock-broker:lock.passages --land-in archive";

pub(crate) const CHECK: &str = "Examples:\n  sluice check\n  sluice check weighings --offline\n  \
    sluice check permits --apply";

pub(crate) const REHEARSE: &str = "Examples:\n  sluice rehearse weighings --events 200\n  \
    sluice rehearse weighings --trace 3\n  sluice rehearse weighings --keep kept.jsonl --yes\n  \
    sluice rehearse weighings --expect kept.jsonl";

pub(crate) const RUN: &str = "Examples:\n  sluice run weighings --until-caught-up\n  \
    sluice run weighings --stop-after 2 --until-caught-up\n  sluice run passages";

pub(crate) const STATUS: &str = "Examples:\n  sluice status\n  sluice status weighings\n  sluice status --follow";

pub(crate) const LEDGER: &str = "Examples:\n  sluice ledger weighings --show 5\n  sluice ledger weighings --batch 1";

pub(crate) const AUDIT: &str = "Examples:\n  sluice audit permits\n  \
    sluice audit permits --landing permit.desk --catch-up\n  sluice audit permits --catch-up --reload";

pub(crate) const REJECTS: &str = "Examples:\n  sluice rejects weighings\n  sluice rejects weighings --only not_json --raw\n  \
    sluice rejects weighings --retry --yes";

pub(crate) const POSITIONS: &str = "Examples:\n  sluice positions weighings\n  \
    sluice positions passages --set 2026-04-01 --reason \"lost a day\"\n  sluice positions weighings --changes";

pub(crate) const REPLAY: &str = "Examples:\n  sluice replay weighings --batches 1 --plan\n  \
    sluice replay weighings --batches 1 --reason \"a wrong rate\" --yes\n  \
    sluice replay passages --range lock.passages/0=100..200 --landing passage.archive";

pub(crate) const MANUAL: &str = "Examples:\n  sluice manual\n  sluice manual date_trunc\n  sluice manual \"time zone\"";

pub(crate) const DEMO: &str = "Examples:\n  sluice demo\n  sluice demo /tmp/tarrow";

pub(crate) const EMIT: &str = "Examples:\n  sluice emit passages --count 3\n  \
    sluice emit tolls --count 1000 --bad 1% --into tolls\n  \
    sluice emit levels --rate 100 --for 30s --into lock-broker:lock.levels";

pub(crate) const STAND_IN: &str = "Examples:\n  sluice stand-in broker\n  \
    sluice stand-in broker --listen 127.0.0.1:9092 --topic lock.passages:4:7d";

pub(crate) const COMPLETIONS: &str = "Examples:\n  source <(sluice completions bash)\n  \
    sluice completions fish > ~/.config/fish/completions/sluice.fish";
