//! A page that shows a run of commands with what each gave.

use askama::Template;

use crate::error::Error;
use crate::theme;

/// One command of a run and what it left.
#[derive(Debug, Clone)]
pub struct PageStep {
    /// What the step shows, as a heading.
    pub heading: String,
    /// Why one would do it and what to look at.
    pub text: String,
    /// The command line as one would type it.
    pub command: String,
    /// What it printed.
    pub output: String,
    /// File name of the figure it drew, relative to the page.
    pub figure: Option<String>,
    /// Names of other files it left, relative to the page.
    pub files: Vec<String>,
}

#[derive(Template)]
#[template(path = "index.html")]
struct IndexPage<'a> {
    title: &'a str,
    introduction: &'a str,
    steps: &'a [PageStep],
    fonts: &'a str,
    version: &'a str,
}

/// A page with one section for each step. Figures and files are linked, fonts are inside.
///
/// # Errors
///
/// [`Error::Drawing`] if the template fails, which would be a fault of this program.
pub fn index_page(
    title: &str,
    introduction: &str,
    steps: &[PageStep],
    version: &str,
) -> Result<String, Error> {
    IndexPage { title, introduction, steps, fonts: &theme::font_faces(), version }
        .render()
        .map_err(Error::drawing)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_shows_each_step_and_escapes_what_it_shows() {
        let step = PageStep {
            heading: "The harp".into(),
            text: "Look at it.".into(),
            command: "tonemap spectrum harp.wav".into(),
            output: "level <dB>".into(),
            figure: Some("harp.png".into()),
            files: vec!["harp.json".into()],
        };
        let page = index_page("Alder Hall", "A run.", &[step], "0.1.0").expect("rendered");
        for wanted in [
            "<h2",
            "The harp",
            "tonemap spectrum harp.wav",
            "harp.png",
            "harp.json",
            "level &#60;dB&#62;",
        ] {
            assert!(page.contains(wanted), "{wanted}");
        }
    }
}
