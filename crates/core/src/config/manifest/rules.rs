//! Rules, times and checkpoints in a manifest: what of them does not fit.

use super::check::Checker;
use super::document::Step;
use super::form::{GateForm, StageForm};
use super::{DatasetDecl, Diagnostic, GateDecl, StageDecl};
use textum_base::overlap;
use textum_expr::{Rule, RuleError, parse};

/// Seconds in a text such as `90s`, `10m` or `1h30m`.
pub fn parse_time(text: &str) -> Option<u64> {
    let mut rest = text.trim();
    let mut total: u64 = 0;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit())?;
        let number: u64 = rest[..digits].parse().ok()?;
        let unit = rest[digits..].chars().next()?;
        let seconds = match unit {
            's' => 1,
            'm' => 60,
            'h' => 3600,
            'd' => 86_400,
            _ => return None,
        };
        total = total.checked_add(number.checked_mul(seconds)?)?;
        rest = rest[digits + 1..].trim_start();
    }
    (total > 0).then_some(total)
}

impl Checker<'_, '_> {
    pub(super) fn bad_rule(&mut self, text: &str, span: std::ops::Range<usize>, e: RuleError) {
        let marked = text.get(e.at.clone()).filter(|m| !m.is_empty());
        let label = marked.map_or("at its end".to_string(), |m| format!("at `{m}`"));
        self.mistakes.push(Diagnostic::new(span, format!("the condition `{text}`: {}", e.what), label, e.help));
    }

    /// When a stage is to be stopped.
    pub(super) fn stop_rule(&mut self, name: &str, form: &StageForm) -> Option<Rule> {
        let text = form.stop_when.as_deref()?;
        let span = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("stop_when")]);
        let rule = match parse(text) {
            Ok(rule) => rule,
            Err(e) => {
                self.bad_rule(text, span, e);
                return None;
            }
        };
        for metric in rule.best_of() {
            if metric.is_some_and(|m| self.better.contains_key(m)) {
                continue;
            }
            let (title, help) = match metric {
                Some(m) => (
                    format!("`best`: it is not said whether a higher or a lower `{m}` is better"),
                    format!("add [metric.{m}] with `better = \"lower\"` or `\"higher\"`"),
                ),
                None => ("`best` of what?".into(), "name a metric in the same test, as in \"loss > 2 * best\"".to_string()),
            };
            self.mistakes.push(Diagnostic::new(span.clone(), title, "this rule", help));
        }
        Some(rule)
    }

    /// A condition after a stage.
    pub(super) fn gate(
        &mut self,
        index: usize,
        form: &GateForm,
        declared: &[&str],
        stages: &[StageDecl],
        datasets: &[DatasetDecl],
    ) -> Option<GateDecl> {
        let place = |this: &Self, key| this.at(&[Step::Key("gate"), Step::At(index), Step::Key(key)]);
        if !declared.contains(&form.after.as_str()) && !stages.iter().any(|s| s.name == form.after) {
            let help = match super::nearest(&form.after, declared.iter().copied()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "name a stage of this manifest".to_string(),
            };
            let span = place(self, "after");
            self.mistakes.push(Diagnostic::new(span, format!("there is no stage `{}`", form.after), "this stage", help));
        }
        let span = place(self, "check");
        let check = match parse(&form.check) {
            Ok(rule) => rule,
            Err(e) => {
                self.bad_rule(&form.check, span, e);
                return None;
            }
        };
        if check.counts_steps() {
            let help = "a gate looks at the metrics once the stage has ended: leave `for … steps` out";
            self.mistakes.push(Diagnostic::new(span, "a gate cannot count steps", "this condition", help));
        }
        for name in check.names() {
            let Some(of) = name.strip_prefix("data.") else { continue };
            let (dataset, what) = of.rsplit_once('.').unwrap_or((of, ""));
            let known = || datasets.iter().map(|d| d.name.as_str());
            let help = match (known().any(|d| d == dataset), what) {
                (true, "rows" | "bytes") => continue,
                (true, _) => format!("write data.{dataset}.rows or data.{dataset}.bytes"),
                (false, _) => match super::nearest(dataset, known()) {
                    Some(near) => format!("did you mean `data.{near}.rows`?"),
                    None => "name a dataset of this manifest, as in data.NAME.rows".to_string(),
                },
            };
            let span = place(self, "check");
            self.mistakes.push(Diagnostic::new(span, format!("nothing gives `{name}`"), "in this condition", help));
        }
        Some(GateDecl { after: form.after.clone(), check, baseline: form.baseline.clone() })
    }

    /// Checkpoints are no output: nothing else may be kept where they are.
    pub(super) fn checkpoints_apart(&mut self, stages: &[StageDecl]) {
        for stage in stages {
            let Some(path) = &stage.checkpoints else { continue };
            let taken = stages.iter().find_map(|other| {
                let own = other.reads.iter().map(|r| &**r).chain(other.outputs().map(|o| &**o));
                let theirs = other.checkpoints.as_deref().filter(|_| other.name != stage.name);
                own.chain(theirs).find(|p| overlap(p, path)).map(|p| (other.name.clone(), p.to_string()))
            });
            if let Some((other, what)) = taken {
                let span = self.at(&[Step::Key("stage"), Step::Key(&stage.name), Step::Key("checkpoints")]);
                let title = format!("the checkpoints `{path}` overlap with `{what}` of `{other}`");
                let help = "give the checkpoints a path of their own; what later stages need goes to `writes`";
                self.mistakes.push(Diagnostic::new(span, title, "this path", help));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::parse_time;

    #[test]
    fn times_are_read() {
        let read = ["90s", "10m", "1h30m", "2d", "0s", "10", "m", "1x", "99999999999999999999h"].map(parse_time);
        assert_eq!(read, [Some(90), Some(600), Some(5400), Some(172_800), None, None, None, None, None]);
    }
}
