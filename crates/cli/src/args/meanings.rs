//! Words that people who know other programs try first, with the command that does it here.

/// The words, and what to run instead of them.
const MEANINGS: [(&[&str], &str); 25] = [
    (&["add", "require", "declare"], "need PACKAGE"),
    (&["remove", "uninstall", "delete", "rm"], "drop PACKAGE"),
    (&["search", "query"], "find WORD"),
    (&["show", "info", "view", "details"], "describe PACKAGE"),
    (&["list", "ls", "tree", "deps", "dependencies"], "graph"),
    (&["why", "whatprovides", "reason"], "explain PACKAGE"),
    (&["run", "script", "build", "test"], "task NAME"),
    (&["exec", "shell", "env"], "with -- PROGRAM"),
    (&["login", "signin", "auth"], "registry sign-in REGISTRY"),
    (&["logout", "signout"], "registry sign-out REGISTRY"),
    (&["outdated", "updates"], "newer"),
    (&["upgrade", "bump"], "update"),
    (&["status", "audit", "lint", "health"], "check"),
    (&["doctor", "prerequisites"], "ready"),
    (&["version"], "--version"),
    (&["clean", "gc", "autoclean", "cache"], "store trim"),
    (&["new", "create", "start"], "init"),
    (&["lock", "solve"], "resolve"),
    (&["sync", "restore", "fetch", "download", "get"], "install"),
    (&["diff", "changes"], "compare"),
    (&["push", "release", "upload"], "publish"),
    (&["unpublish", "retract"], "withdraw PACKAGE VERSION --reason TEXT"),
    (&["serve", "server", "mirror"], "registry --help"),
    (&["todo", "checklist"], "steps"),
    (&["pack", "bundle", "vendor", "archive"], "kit --help"),
];

/// What to run instead of a word that is no command, by what it means.
pub fn instead_of(word: &str) -> Option<&'static str> {
    let word = word.to_lowercase();
    MEANINGS.iter().find(|(words, _)| words.contains(&word.as_str())).map(|(_, instead)| *instead)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use clap::CommandFactory;

    use super::*;
    use crate::args::Arguments;

    #[test]
    fn each_word_is_said_once_is_no_command_and_leads_to_one() {
        let command = Arguments::command();
        let mut seen = BTreeSet::new();
        for (words, instead) in MEANINGS {
            for word in words {
                assert!(seen.insert(word), "{word} is there twice");
                assert!(command.find_subcommand(word).is_none(), "{word} is a command");
            }
            let first = instead.split(' ').next().unwrap();
            assert!(first == "--version" || command.find_subcommand(first).is_some(), "{instead}");
        }
    }
}
