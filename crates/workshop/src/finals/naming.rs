//! Names of delivered files: a pattern with tokens, and no name twice.

use super::{NewFinal, Task};
use crate::Workshop;
use fault::{Code, Fault};
use std::collections::HashSet;
use store::FinalState;
use tracer::Description;

/// Patterns of single frames and of series, until the artist gives others.
const SINGLE: &str = "{shot}_{camera}_{final}";
const SERIES: &str = "{shot}_{frame}";
/// Digits of numbers where neither the token nor the order says.
const DIGITS: usize = 4;
const TOKENS: [&str; 7] = ["shot", "camera", "frame", "final", "revision", "width", "height"];
/// Most characters of a name without its ending: file systems take 255 bytes, passes add theirs.
const LONGEST: usize = 120;

enum Piece<'a> {
    Text(&'a str),
    /// Index into [`TOKENS`], and digits if the token gives them.
    Token(usize, Option<usize>),
}

/// What tokens stand for.
pub(super) struct Named<'a> {
    pub shot: &'a str,
    pub revision: i64,
    pub id: i64,
    pub description: &'a Description,
    pub task: &'a Task,
}

fn refused(what: String) -> Fault {
    let remedy = format!("use letters, digits, - _ . and {}; digits like {{frame:5}}", tokens());
    Fault::new(Code::Unsupported, what, "naming", remedy)
}

fn tokens() -> String {
    TOKENS.map(|t| format!("{{{t}}}")).join(" ")
}

fn pieces(pattern: &str) -> Result<Vec<Piece<'_>>, Fault> {
    let (mut out, mut rest) = (Vec::new(), pattern.trim());
    while !rest.is_empty() {
        let (text, after) = rest.split_at(rest.find('{').unwrap_or(rest.len()));
        if let Some(c) = text.chars().find(|c| !(c.is_alphanumeric() || "-_.".contains(*c))) {
            return Err(refused(format!("a name cannot hold \"{c}\"")));
        }
        if !text.is_empty() {
            out.push(Piece::Text(text));
        }
        let Some(inner) = after.strip_prefix('{') else { break };
        let (token, after) = inner.split_once('}').ok_or_else(|| refused("a { is not closed".into()))?;
        let (name, digits) = token.split_once(':').map_or((token, None), |(n, d)| (n, Some(d)));
        let unknown = || refused(format!("there is no {{{token}}}"));
        let which = TOKENS.iter().position(|t| *t == name).ok_or_else(unknown)?;
        let digits = digits.map(|d| d.parse().ok().filter(|d| (1..=9).contains(d)).ok_or_else(unknown)).transpose()?;
        out.push(Piece::Token(which, digits));
        rest = after;
    }
    Ok(out)
}

/// Letters and digits only, so that it is a good file name everywhere.
fn slug(s: &str) -> String {
    let words: Vec<String> =
        s.split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).map(str::to_lowercase).collect();
    words.join("-")
}

/// The name without its ending.
fn named(pattern: &str, n: &Named) -> Result<String, Fault> {
    let number = |x: i64, digits: usize| format!("{x:0digits$}");
    let mut out = String::new();
    for piece in pieces(pattern)? {
        match piece {
            Piece::Text(text) => out.push_str(text),
            Piece::Token(which, digits) => out.push_str(&match TOKENS[which] {
                "shot" => slug(n.shot),
                "camera" => slug(&n.description.camera),
                "frame" => match n.task.number {
                    Some(frame) => number(frame as i64, digits.unwrap_or(n.task.padding as usize)),
                    None => return Err(refused("{frame} is for numbered series".into())),
                },
                "final" => number(n.id, digits.unwrap_or(DIGITS)),
                "revision" => number(n.revision, digits.unwrap_or(1)),
                "width" => number(n.description.frame().0 as i64, digits.unwrap_or(1)),
                _ => number(n.description.frame().1 as i64, digits.unwrap_or(1)),
            }),
        }
    }
    // Neither hidden nor a way to another folder.
    if !out.starts_with(char::is_alphanumeric) {
        return Err(refused(format!("\"{out}\" does not begin with a letter or digit")));
    }
    if out.chars().count() > LONGEST {
        return Err(refused(format!("the name has more than {LONGEST} characters")));
    }
    Ok(out)
}

/// `name`, or `name-2` … where that is taken.
fn free(name: String, taken: impl Fn(&str) -> Result<bool, Fault>) -> Result<String, Fault> {
    let mut found = name.clone();
    let mut others = (2..).map(|i| format!("{name}-{i}"));
    while taken(&found)? {
        found = others.next().unwrap_or_default();
    }
    Ok(found)
}

/// Names of the frames of an order, in their order, and whether some were taken already.
pub(super) struct Names {
    pub bases: Vec<String>,
    pub evaded: bool,
}

impl Workshop {
    /// The pattern of single frames or of series.
    pub fn naming(&self, series: bool) -> String {
        let (key, own) = if series { ("naming_series", SERIES) } else { ("naming", SINGLE) };
        self.0.store.setting(key).unwrap_or_else(|| own.into())
    }

    /// Keeps the pattern of an order for the next one.
    pub(super) fn keep_naming(&self, new: &NewFinal) -> Result<(), Fault> {
        let Some(pattern) = new.naming.as_ref().filter(|p| !p.trim().is_empty()) else { return Ok(()) };
        let key = if new.series.is_some() { "naming_series" } else { "naming" };
        if *pattern != self.naming(new.series.is_some()) {
            self.0.store.set_setting(key, pattern)?;
            self.0.events.tell(crate::Event::Settings);
        }
        Ok(())
    }

    /// A final that is on its way or whole bears the name; what has lost its files may be rendered again under its own.
    fn is_taken(&self, name: &str) -> Result<bool, Fault> {
        for f in self.0.store.named_finals(name)? {
            let free =
                f.state == FinalState::Cancelled || f.state == FinalState::Delivered && !self.has_its_files(&f)?;
            if !free {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// A name for a final that is rendered again.
    pub(super) fn free_name(&self, name: String) -> Result<String, Fault> {
        free(name, |name| self.is_taken(name))
    }

    /// Names the frames of an order whose finals will be numbered from `id` on. No two finals have the same name, whatever
    /// folder their files are taken to.
    pub(super) fn names(
        &self,
        shot: i64,
        new: &NewFinal,
        frames: &[(Description, Task)],
        id: i64,
    ) -> Result<Names, Fault> {
        let row = self.0.store.shot(shot)?;
        let own = self.naming(new.series.is_some());
        let pattern = new.naming.as_deref().filter(|p| !p.trim().is_empty()).unwrap_or(&own);
        let mut taken = HashSet::new();
        let mut names = Names { bases: Vec::new(), evaded: false };
        let mut meant = HashSet::new();
        for (i, (description, task)) in frames.iter().enumerate() {
            let n = Named { shot: &row.name, revision: row.revision, id: id + i as i64, description, task };
            let name = named(pattern, &n)?;
            if !meant.insert(name.clone()) {
                let missing = if task.number.is_some() { "{frame}" } else { "{camera} or {final}" };
                return Err(Fault::new(
                    Code::Unsupported,
                    format!("several frames would be named \"{name}\""),
                    "naming",
                    format!("add {missing} to the pattern"),
                ));
            }
            let base = free(name.clone(), |name| Ok(taken.contains(name) || self.is_taken(name)?))?;
            names.evaded |= base != name;
            taken.insert(base.clone());
            names.bases.push(base);
        }
        Ok(names)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(pattern: &str, task: &Task) -> Result<String, Fault> {
        let tuning = tuning::Tuning::default();
        let description = Description::new("s", None, "Front, near", tuning);
        named(pattern, &Named { shot: "Lens cabinet 3", revision: 12, id: 7, description: &description, task })
    }

    #[test]
    fn tokens_become_names_that_are_good_everywhere() {
        let single = Task::default();
        assert_eq!(name(SINGLE, &single).unwrap(), "lens-cabinet-3_front-near_0007");
        assert_eq!(name("v{revision:3}.{width}x{height}", &single).unwrap(), "v012.960x540");
        let frame = Task { number: Some(3), padding: 5, ..Task::default() };
        assert_eq!(name(SERIES, &frame).unwrap(), "lens-cabinet-3_00003");
        assert_eq!(name("a{frame:2}", &frame).unwrap(), "a03");
        assert_eq!(free("a".into(), |name| Ok(["a", "a-2"].contains(&name))).unwrap(), "a-3");
    }

    #[test]
    fn what_is_no_name_is_refused_with_the_tokens() {
        let single = Task::default();
        for bad in
            ["../{shot}", "a/b", "{shot", "{dreams}", "{frame}", "{shot:0}", "", ".hidden", "a b", &"x".repeat(121)]
        {
            let fault = name(bad, &single).unwrap_err();
            assert!(fault.to_string().contains("{revision}"), "{bad}: {fault}");
        }
    }
}
