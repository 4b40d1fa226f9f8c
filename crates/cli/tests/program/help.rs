//! The help, the JSON and the manners of the command line.

use insta::assert_snapshot;

use crate::garden::Garden;

#[test]
fn the_help_groups_commands_by_stage() {
    assert_snapshot!(Garden::bare().run(&["--help"]), @"
    Declares, resolves, installs and keeps a team's third-party packages, for any language

    Usage: bibliotax [OPTIONS] <COMMAND>

    Declare what is needed
      init       Write a commented manifest in this folder
      find       Find packages by words
      describe   Tell all that is known of a package
      fit        Tell which packages work on which targets
      need       Declare packages, resolve and install them
      drop       Take packages out of the manifest and off the shelf

    Bring it here
      resolve    Write the lock that the manifest leads to
      install    Bring the shelf to exactly what the lock says
      update     Move packages to newer releases, and as little else as possible
      verify     Compare every file of the shelf with the lock
      task       Run a task of the manifest, and before it those that it needs
      with       Run a command with the paths of the packages in its environment

    Understand it
      graph      Show who needs whom
      explain    Tell why a package is here at its version, or why it can't be another
      newer      Tell what has newer releases, and what keeps them out
      compare    Tell what differs between two locks
      steps      List what must still be done by hand, or tick it off
      ready      Tell whether this machine is ready for the project

    Keep the team together
      check      Tell what is wrong or worth a look
      kit        Carry a lock's packages to a machine without a network

    Supply packages
      publish    Publish this project as a release
      withdraw   Say that a release is not to be chosen any more
      deprecate  Say that releases still work, but something else is better
      registry   Make, load and serve a registry

    Look after this machine
      store      Look after what is kept on this machine

    See it at work
      demo       Tell the whole story on demo data, each step really run

    Options of every command
          --directory <DIR>  Run as if in this folder
          --format <FORM>    Print results as text for people or as JSON for programs [default: text]
                             [possible values: text, json]
      -q, --quiet            Print nothing but errors and what was asked for
      -v, --verbose...       Tell what is being done
      -h, --help             Print help
      -V, --version          Print version

    `bibliotax COMMAND --help` tells more, with an example.
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
