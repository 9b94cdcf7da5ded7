//! Parameters of a query or of the text parts of a form. Each is asked for by
//! its name and type; what nobody has asked for is refused with the names that
//! were, so that no parameter is ever dropped in silence.

use std::collections::HashSet;
use std::str::FromStr;

use crate::problem::Problem;
use crate::problem_kind::ProblemKind;

pub(crate) struct Parameters {
    given: Vec<(String, String)>,
    /// Names that were asked for, in their order.
    known: Vec<&'static str>,
}

impl Parameters {
    /// Those of a query (URL Standard, section 5.1).
    pub(crate) fn of_query(query: &str) -> Result<Parameters, Problem> {
        Parameters::new(form_urlencoded::parse(query.as_bytes()).into_owned().collect())
    }

    /// Names and values; a name that is given twice is refused.
    pub(crate) fn new(given: Vec<(String, String)>) -> Result<Parameters, Problem> {
        let mut names = HashSet::new();
        if let Some((name, _)) = given.iter().find(|(name, _)| !names.insert(name)) {
            return Err(Problem::new(ProblemKind::Invalid, format!("the parameter '{name}' is given twice")));
        }
        Ok(Parameters { given, known: Vec::new() })
    }

    /// A parameter as it is written.
    pub(crate) fn text(&mut self, name: &'static str) -> Option<String> {
        if !self.known.contains(&name) {
            self.known.push(name);
        }
        let at = self.given.iter().position(|(given, _)| given == name)?;
        Some(self.given.swap_remove(at).1)
    }

    /// A parameter that is a number.
    pub(crate) fn number<T: FromStr>(&mut self, name: &'static str) -> Result<Option<T>, Problem> {
        self.parsed(name, "a number")
    }

    /// How many records of a list are asked for, up to `most`.
    pub(crate) fn limit(&mut self, usual: u32, most: u32) -> Result<u32, Problem> {
        let limit = self.number("limit")?.unwrap_or(usual);
        match (1..=most).contains(&limit) {
            true => Ok(limit),
            false => Err(Problem::new(ProblemKind::Invalid, format!("limit is 1 to {most}, not {limit}"))),
        }
    }

    /// A parameter that is `true` or `false`.
    pub(crate) fn flag(&mut self, name: &'static str) -> Result<Option<bool>, Problem> {
        self.parsed(name, "true or false")
    }

    fn parsed<T: FromStr>(&mut self, name: &'static str, what: &str) -> Result<Option<T>, Problem> {
        let Some(value) = self.text(name) else { return Ok(None) };
        let wrong = |_| Problem::new(ProblemKind::Invalid, format!("{name} takes {what}, not '{value}'"));
        value.parse().map(Some).map_err(wrong)
    }

    /// Refuses what is left.
    pub(crate) fn finish(self) -> Result<(), Problem> {
        let Some((name, _)) = self.given.first() else { return Ok(()) };
        let known = self.known.join(", ");
        Err(Problem::new(ProblemKind::UnknownMember, format!("unknown parameter '{name}'; known: {known}")))
    }
}

/// Refuses a query beside a body that has members for all of it.
pub(crate) fn no_query(query: &str, body: &str) -> Result<(), Problem> {
    match query.is_empty() {
        true => Ok(()),
        false => {
            let detail = format!("a body of {body} takes no query parameters; write them as members of the body");
            Err(Problem::new(ProblemKind::UnknownMember, detail))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(problem: &Problem) -> String {
        serde_json::to_value(problem).expect("JSON")["detail"].as_str().expect("a detail").to_owned()
    }

    #[test]
    fn parameters_are_decoded_and_read_by_their_type() {
        let mut read =
            Parameters::of_query("text=a+b%26c&voice=heron%2Fpellin&bare&rate=0.5&vbr=true").expect("a query");
        assert_eq!(read.text("text").as_deref(), Some("a b&c"));
        assert_eq!(read.text("voice").as_deref(), Some("heron/pellin"));
        assert_eq!(read.text("bare").as_deref(), Some(""));
        assert_eq!(read.text("absent"), None);
        assert_eq!(read.number::<f64>("rate").expect("a number"), Some(0.5));
        assert_eq!(read.number::<u64>("seed").expect("none"), None);
        assert_eq!((read.flag("vbr").expect("a flag"), read.flag("whole").expect("none")), (Some(true), None));
        read.finish().expect("nothing is left");
    }

    #[test]
    fn what_is_unknown_twice_there_or_of_another_type_is_named() {
        let mut read = Parameters::of_query("titel=x&split=line").expect("a query");
        read.text("title");
        read.text("split");
        assert_eq!(told(&read.finish().expect_err("left")), "unknown parameter 'titel'; known: title, split");
        let twice = Parameters::of_query("a=1&b=2&a=3").err().expect("twice");
        assert_eq!(told(&twice), "the parameter 'a' is given twice");
        let mut read = Parameters::of_query("seed=-1&vbr=yes").expect("a query");
        assert_eq!(told(&read.number::<u64>("seed").expect_err("no number")), "seed takes a number, not '-1'");
        assert_eq!(told(&read.flag("vbr").expect_err("no flag")), "vbr takes true or false, not 'yes'");
    }
}
