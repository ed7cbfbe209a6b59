//! A page with all pipelines: their state, their pictures and figures over time. One file without outside parts and without scripts.

use super::escape;

/// One pipeline on the page.
pub(crate) struct Part {
    pub(crate) name: String,
    /// Its state, in words.
    pub(crate) state: String,
    /// Whether something is wrong with it.
    pub(crate) is_alarmed: bool,
    /// More about it, a line each.
    pub(crate) lines: Vec<String>,
    /// Pictures as SVG, which we drew.
    pub(crate) pictures: Vec<String>,
}

const STYLE: &str = "body{margin:0 auto;max-width:1240px;padding:20px 24px;font:14px/1.5 'DejaVu Sans',Verdana,sans-serif;\
    color:#16262e;background:#f4f8f9}h1{font-size:20px;margin:0}h2{font-size:16px;margin:0 0 4px}.faint{color:#5c717b}\
    .alarm{color:#b0470c;font-weight:600}section{background:#fff;border:1px solid #d6e9ec;border-radius:6px;margin:18px 0;\
    padding:14px 18px}figure{margin:10px 0 0;overflow-x:auto}svg{max-width:100%;height:auto}p{margin:2px 0}pre{margin:6px 0;font:12.5px/1.5 'DejaVu Sans Mono',monospace;white-space:pre-wrap}";

/// The page. `refresh` is after how many seconds a browser asks for it again; None where it stays as it is.
pub(crate) fn draw(project: &str, time: &str, about: &str, parts: &[Part], refresh: Option<u32>) -> String {
    let again =
        refresh.map_or(String::new(), |seconds| format!("<meta http-equiv=\"refresh\" content=\"{seconds}\">\n"));
    let mut out = format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n{again}<meta name=\"viewport\" \
         content=\"width=device-width\">\n<title>{0} · Sluice</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<h1>{0}</h1>\n\
         <p class=\"faint\">{1} UTC · {2}</p>\n",
        escape(project),
        escape(time),
        escape(about),
    );
    if parts.is_empty() {
        out.push_str("<p>no pipeline yet: sluice draft writes one from real events</p>\n");
    }
    for part in parts {
        let class = if part.is_alarmed { "alarm" } else { "faint" };
        out.push_str(&format!(
            "<section>\n<h2>{}</h2>\n<p class=\"{class}\">{}</p>\n",
            escape(&part.name),
            escape(&part.state)
        ));
        let lines: Vec<String> = part.lines.iter().map(|line| escape(line)).collect();
        if !lines.is_empty() {
            out.push_str(&format!("<pre>{}</pre>\n", lines.join("\n")));
        }
        part.pictures.iter().for_each(|picture| out.push_str(&format!("<figure>\n{picture}</figure>\n")));
        out.push_str("</section>\n");
    }
    out.push_str("</body>\n</html>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_has_no_outside_parts_and_no_scripts() {
        let part = Part {
            name: "tolls<script>".into(),
            state: "stopped: \"<b>\"".into(),
            is_alarmed: true,
            lines: vec!["limited by </p><img src=x>".into()],
            pictures: vec!["<svg xmlns=\"http://www.w3.org/2000/svg\"></svg>\n".into()],
        };
        let text = draw("tarrow & sons", "12:00:00", "", &[part], Some(5));
        assert!(!text.contains("<script") && !text.contains("<img") && !text.contains("<b>"), "{text}");
        assert!(text.contains("tarrow &amp; sons") && text.contains("content=\"5\""));
        assert!(!text.contains("src=\"") && !text.contains("href="), "{text}");
        assert!(!draw("tarrow", "", "", &[], None).contains("refresh"));
    }
}
