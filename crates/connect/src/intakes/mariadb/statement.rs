//! What statements in the log mean for tables: it tells them as they were written.

/// Tables that a statement does something to, each with its database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Statement {
    /// Their rows went.
    pub emptied: Vec<String>,
    /// They went.
    pub dropped: Vec<String>,
    /// They are not there under their names any more: those that went, and those that have another name.
    pub lost: Vec<String>,
}

/// Reads a statement. `database` is where names without one stand.
pub(super) fn read(text: &str, database: &str) -> Statement {
    let words = words(text);
    let mut rest: &[String] = &words;
    let mut said = Statement::default();
    let full = |name: &String| match name.contains('\u{1}') {
        true => name.replace('\u{1}', "."),
        false => format!("{database}.{name}"),
    };
    let verb = take(&mut rest).to_lowercase();
    // Whether it is about tables at all.
    let is_table = |rest: &mut &[String]| {
        skip(rest, &["online", "ignore", "temporary"]);
        skip(rest, &["table", "tables"])
    };
    match verb.as_str() {
        "truncate" => {
            skip(&mut rest, &["table"]);
            said.emptied.extend(rest.first().map(full));
        }
        "drop" if is_table(&mut rest) => {
            skip(&mut rest, &["if", "exists"]);
            let is_end = |w: &&String| ["restrict", "cascade", "wait", "nowait"].contains(&w.to_lowercase().as_str());
            said.dropped = rest.iter().take_while(|w| !is_end(w)).filter(|w| *w != ",").map(full).collect();
            said.lost.clone_from(&said.dropped);
        }
        "rename" if is_table(&mut rest) => {
            skip(&mut rest, &["if", "exists"]);
            for pair in rest.split(|w| w == ",") {
                said.lost.extend(pair.first().map(full));
            }
        }
        "alter" if is_table(&mut rest) => {
            skip(&mut rest, &["if", "exists"]);
            let table = rest.first().map(full);
            let gets_name = rest.windows(2).any(|pair| {
                let next = pair[1].to_lowercase();
                pair[0].eq_ignore_ascii_case("rename") && !["column", "index", "key"].contains(&next.as_str())
            });
            said.lost.extend(table.filter(|_| gets_name));
        }
        _ => {}
    }
    said
}

fn take<'w>(rest: &mut &'w [String]) -> &'w str {
    let Some((first, others)) = rest.split_first() else { return "" };
    *rest = others;
    first
}

/// Goes over words of a list; whether one stood there.
fn skip(rest: &mut &[String], words: &[&str]) -> bool {
    let mut any = false;
    while rest.first().is_some_and(|w| words.iter().any(|word| w.eq_ignore_ascii_case(word))) {
        *rest = &rest[1..];
        any = true;
    }
    any
}

/// The words of a statement; a comma is one, and a point within a name that has a database becomes U+0001. Comments are
/// none.
fn words(text: &str) -> Vec<String> {
    let mut words: Vec<String> = vec![String::new()];
    let mut characters = text.chars().peekable();
    let end = |words: &mut Vec<String>| {
        if words.last().is_some_and(|w| !w.is_empty()) {
            words.push(String::new());
        }
    };
    while let Some(c) = characters.next() {
        match c {
            '`' => {
                while let Some(inner) = characters.next() {
                    if inner == '`' && characters.peek() != Some(&'`') {
                        break;
                    }
                    if inner == '`' {
                        characters.next();
                    }
                    words.last_mut().into_iter().for_each(|w| w.push(inner));
                }
            }
            '/' if characters.peek() == Some(&'*') => {
                let mut last = ' ';
                for inner in characters.by_ref() {
                    if last == '*' && inner == '/' {
                        break;
                    }
                    last = inner;
                }
                end(&mut words);
            }
            '.' => words.last_mut().into_iter().for_each(|w| w.push('\u{1}')),
            ',' => {
                end(&mut words);
                words.last_mut().into_iter().for_each(|w| w.push(','));
                end(&mut words);
            }
            c if c.is_whitespace() || c == ';' => end(&mut words),
            c => words.last_mut().into_iter().for_each(|w| w.push(c)),
        }
    }
    words.retain(|w| !w.is_empty());
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("truncate table `permit`", "emptied office.permit")]
    #[case("TRUNCATE other.permit", "emptied other.permit")]
    #[case("alter table permit add x int", "")]
    #[case("alter table permit rename column a to b, rename key k to l", "")]
    #[case("ALTER TABLE `permit` RENAME TO licence", "lost office.permit")]
    #[case("alter table if exists other.permit rename licence", "lost other.permit")]
    #[case("rename table permit to licence, `toll`.`due` to x", "lost office.permit lost toll.due")]
    #[case(
        "DROP TABLE IF EXISTS `per``mit`,other.b /* generated by server */",
        "dropped office.per`mit dropped other.b lost office.per`mit lost other.b"
    )]
    #[case("drop index i on permit", "")]
    #[case("create table t (a int)", "")]
    #[case("", "")]
    fn tables_are_found(#[case] text: &str, #[case] expected: &str) {
        let said = read(text, "office");
        let lists = [("emptied", &said.emptied), ("dropped", &said.dropped), ("lost", &said.lost)];
        let found: Vec<String> =
            lists.iter().flat_map(|(word, names)| names.iter().map(move |n| format!("{word} {n}"))).collect();
        assert_eq!(found.join(" "), expected);
    }
}
