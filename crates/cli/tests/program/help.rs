//! The help, the JSON and the manners of the command line.

use insta::assert_snapshot;

use crate::garden::Garden;

#[test]
fn the_help_groups_commands_by_stage() {
    assert_snapshot!(Garden::bare().run(&["--help"]), @"
    Declare, resolve and install third-party packages for a team, in any language

    Usage: bibliotax COMMAND [OPTIONS]

    Declare dependencies
      init             Create a manifest with comments
      find             Find packages by words
      describe         Show everything about a package
      fit              Show which packages are compatible with which targets
      need             Declare packages, resolve and install them
      drop             Remove packages from the manifest and the shelf

    Resolve and install
      resolve          Resolve the dependencies and write the lock
      install          Install exactly what the lock lists
      update           Update packages, and as few others as possible
      verify           Verify the files on the shelf
      task             Run a task of the manifest, after the tasks it depends on
      with             Run a program with the packages in its environment

    Understand the result
      graph            Show the dependency graph
      links            List the files for build tools, with the line that each tool needs
      explain          Explain why a package is locked at its version, or can't be at another
      newer            List available updates, and what holds them back
      compare          Compare two locks
      history          Show when packages came into the lock, moved and left
      steps            List steps to do by hand, or mark them as done
      ready            Check that this machine is ready for the project
      report           Write one HTML page with problems, packages, graph and licences

    Work in a team
      merge            Merge manifests and locks that two people changed
      check            Check lock, rules and projects for problems
      survey           Show which packages many workspaces use, in which versions
      accept           Accept the licence of a package for the team
      kit              Move packages to a machine without a network
      export           Export a bill of materials, licence notices or VEX documents

    Publish packages
      publish          Publish this project as a release
      withdraw         Withdraw a release, so that nobody newly resolves to it
      deprecate        Deprecate releases: they work, but something else is better
      registry         Create, fill and serve registries

    Maintain this machine
      store            Manage this machine's store of downloaded packages
      completions      Print a script that completes commands and options in a shell
      manual           Write manual pages for `man`, one for each command
      schema           Print a JSON Schema: of a file, or of what a command prints
      language-server  Answer an editor about manifests, over standard input and output

    Learn more
      demo             Show what bibliotax does, on sample data
      help             Explain a topic: ranges, targets, sources, ci or environment

    Options of every command
          --directory DIR   Run as if started in this folder
          --format FORM     Print results as text (default), json, or a form that the command has
          --color WHEN      Use colours: auto (default), always or never
          --no-pager        Don't use a pager for long output
      -q, --quiet           Print only errors and requested values
      -v, --verbose         Show what is done; twice: each request, too
      -h, --help            Show the help of a command
      -V, --version         Show the version

    `bibliotax COMMAND --help` shows details and examples.
    ----- status 0
    ");
}

#[test]
fn wrong_words_end_with_status_two_and_the_nearest_right_ones() {
    let garden = Garden::bare();
    let ran = garden.run(&["ned", "x"]).expect(2);
    assert!(ran.stderr.contains("`bibliotax need`"), "{ran}");
    garden.run(&["need"]).expect(2);
    garden.run(&["install", "--quiet", "-v"]).expect(2);
}

#[test]
fn json_goes_to_stdout_alone_and_names_format_and_command() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for args in [&["need", "dew-point"][..], &["install"], &["resolve"], &["verify"], &["drop", "dew-point"]]
    {
        let ran = garden.run(&[args, &["--format", "json"]].concat()).expect(0);
        let json = ran.json();
        assert_eq!((json["format"].as_u64(), json["command"].as_str()), (Some(1), Some(args[0])));
        assert_eq!(ran.stderr, "");
    }
    let error = garden.run(&["need", "nowhere", "--format", "json"]).expect(4).json();
    assert_eq!(error["error"]["code"], "package.unknown");
}

#[test]
fn quiet_prints_nothing_where_nothing_was_asked() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for args in [&["need", "dew-point", "-q"][..], &["install", "-q"], &["verify", "-q"]] {
        assert_eq!(garden.run(args).expect(0).to_string(), "----- status 0");
    }
}

#[test]
fn no_colours_leave_the_terminal_where_there_is_none() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let ran = garden.run(&["need", "dew-point"]).expect(0);
    assert!(!ran.stdout.contains('\u{1b}') && !ran.stderr.contains('\u{1b}'), "{ran}");
}
