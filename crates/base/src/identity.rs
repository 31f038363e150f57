//! Who does something, and where.

use std::fmt;

/// A person or a program at a machine. What documents say of it is its text: `NAME@HOST`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// The name on that machine.
    pub name: String,
    /// The machine's name.
    pub host: String,
    /// The public key by which others can tell that it was it, once there is one.
    pub key: Option<String>,
}

/// A name is at most so long; the rest says nothing. In characters.
const LONGEST: usize = 64;

/// A name as one word that can be shown anywhere.
fn word(text: &str, otherwise: &str) -> String {
    let plain: String = text.trim().chars().filter(|c| !c.is_control() && !c.is_whitespace() && *c != '@').take(LONGEST).collect();
    if plain.is_empty() { otherwise.to_string() } else { plain }
}

impl Identity {
    /// With this name at this machine.
    pub fn new(name: &str, host: &str) -> Identity {
        Identity { name: word(name, "somebody"), host: word(host, "somewhere"), key: None }
    }

    /// Whoever this process works for, as the environment and the system say.
    pub fn here() -> Identity {
        let name = ["USER", "LOGNAME"].iter().find_map(|variable| crate::environment::variable(variable));
        Identity::new(&name.unwrap_or_default(), &host())
    }
}

/// What this machine is called in records: what `TEXTUM_HOST` says, as in a container that is called otherwise each time; else
/// its host name.
pub fn host() -> String {
    let said = crate::environment::variable("TEXTUM_HOST").filter(|name| !name.trim().is_empty());
    said.unwrap_or_else(|| rustix::system::uname().nodename().to_string_lossy().into_owned())
}

impl fmt::Display for Identity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.name, self.host)
    }
}

impl Default for Identity {
    fn default() -> Identity {
        Identity::new("", "")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_one_word_whatever_the_environment_says() {
        let said = |name: &str, host: &str| Identity::new(name, host).to_string();
        assert_eq!(said("weaver", "shed"), "weaver@shed");
        assert_eq!(said(" wea\u{1b}[31mver\n", "sh@ed"), "wea[31mver@shed");
        assert_eq!(said("", " "), "somebody@somewhere");
        assert_eq!(said(&"ä".repeat(500), "x").chars().count(), LONGEST + 2);
        assert_eq!(Identity::here(), Identity::here());
    }
}
