//! Pseudonyms: secrets of sluice.toml in expressions.

use crate::common::{PIPELINE, PROJECT, TestProject};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// A project whose landing hides tickets by a function of the project.
fn project() -> TestProject {
    let columns = "columns = \"hidden(ticket) as ticket, gross_kg\"";
    let project = TestProject::new(&PIPELINE.replace("columns = \"ticket, gross_kg\"", columns));
    let declared = "[secret.tickets]\nfrom = { env = \"TICKETS\" }\n[function.hidden]\narguments = \"ticket text\"\n\
                    expression = \"left(hmac_sha256(ticket, 'tickets'), 12)\"\n";
    project.write("sluice.toml", format!("{PROJECT}{declared}"));
    project.append("depots/a.jsonl", "{\"ticket\": \"T-1\", \"day\": \"2026-04-01\", \"gross_kg\": 900}\n");
    project
}

/// Every file of the project as one text.
fn everything(project: &TestProject) -> String {
    fn walk(folder: &std::path::Path, out: &mut String) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => walk(&path, out),
                false => out.push_str(&String::from_utf8_lossy(&std::fs::read(path).unwrap())),
            }
        }
    }
    let mut out = String::new();
    walk(&project.path(""), &mut out);
    out
}

#[test]
fn a_pseudonym_is_the_same_for_the_same_secret_and_the_secret_is_nowhere() {
    let project = project();
    for secret in ["lock-sixteen", "lock-sixteen", "another-lock"] {
        let done = project.command(RUN).env("TICKETS", secret).output().unwrap();
        assert!(done.status.success(), "{done:?}");
        let said = String::from_utf8([done.stdout, done.stderr].concat()).unwrap();
        assert!(!said.contains(secret), "{said}");
        project.append("depots/a.jsonl", "{\"ticket\": \"T-1\", \"day\": \"2026-04-01\", \"gross_kg\": 900}\n");
    }
    // The HMAC of `T-1` with `lock-sixteen`, by another program.
    let tickets = project.heavy();
    assert_eq!((tickets.len(), tickets.get("4a86c237fd96")), (2, Some(&2)), "{tickets:?}");
    let all = everything(&project);
    assert!(!all.contains("lock-sixteen") && !all.contains("another-lock"));
}

/// What was sealed is computed already.
#[cfg(feature = "failpoints")]
#[test]
fn a_sealed_batch_lands_without_the_secret() {
    let project = project();
    let killed =
        project.command(RUN).env("TICKETS", "lock-sixteen").env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert!(!killed.status.success(), "{killed:?}");
    assert!(project.heavy().is_empty());
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("the secret `tickets` cannot be used"), "{err}");
    assert_eq!(project.heavy().get("4a86c237fd96"), Some(&1));
}

#[test]
fn a_secret_that_is_missing_stops_what_needs_it_and_nothing_else() {
    let project = project();
    for command in [RUN, &["rehearse", "weighings"], &["check"]] {
        let (out, err) = project.expect(3, command);
        let said = format!("{out}{err}");
        assert!(said.contains("the secret `tickets` cannot be used") && said.contains("TICKETS"), "{said}");
    }
    for command in [&["status"][..], &["ledger", "weighings"], &["check", "--offline"]] {
        project.expect(0, command);
    }
    let empty = project.command(RUN).env("TICKETS", "").output().unwrap();
    assert_eq!(empty.status.code(), Some(3));
    assert!(!project.path("archive/heavy").exists());
}
