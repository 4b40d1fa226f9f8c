//! Files for pkg-config, one for each package, and a machine file that leads Meson to them.

use super::c_flags::CFlags;
use super::{BuildFile, Unrenderable, is_absolute};
use crate::build_tool::BuildTool;
use crate::links::{LinkedPackage, Links};
use crate::name::PackageName;

/// The file of each package: with the folder of all, its name and its text.
pub fn files(links: &Links) -> Result<Vec<BuildFile>, Unrenderable> {
    let folder = BuildTool::PkgConfig.ending();
    let file =
        |package: &LinkedPackage| (format!("{folder}/{}.pc", package.name.folder()), text(package, links));
    Ok(links.packages.iter().map(file).collect())
}

fn text(package: &LinkedPackage, links: &Links) -> String {
    let flags = CFlags::of_package(package);
    let paths = |prefix: &str, paths: &[String]| -> Vec<String> {
        paths.iter().map(|path| format!("{prefix}{}", rooted(path))).collect()
    };
    let known = package.needs.iter().filter(|need| links.packages.iter().any(|other| other.name == **need));
    let needs: Vec<String> = known.map(PackageName::folder).collect();
    let defines: Vec<String> = flags.defines.iter().map(|define| format!("-D{define}")).collect();
    let libraries: Vec<String> = flags.libraries.iter().map(|library| format!("-l{library}")).collect();
    let cflags = [paths("-I", &flags.include), defines, flags.compile].concat();
    let libs = [paths("-L", &flags.folders), flags.link, paths("", &flags.files), libraries].concat();
    format!(
        "root=${{pcfiledir}}/../../..\nprefix={}\n\nName: {}\nDescription: {} {}\nVersion: {}\nRequires: {}\nCflags: {}\nLibs: {}\n",
        rooted(&package.path),
        package.name,
        package.name,
        package.version,
        package.version,
        needs.join(", "),
        cflags.join(" "),
        libs.join(" "),
    )
}

/// A path that begins where the file is, in which blanks and signs are part of the word.
fn rooted(path: &str) -> String {
    let escaped = path.chars().fold(String::new(), |mut all, c| {
        if c == '$' {
            all.push('$');
        } else if !c.is_ascii_alphanumeric() && c.is_ascii() && !"-_./+:,@%".contains(c) {
            all.push('\\');
        }
        all.push(c);
        all
    });
    if is_absolute(path) { escaped } else { format!("${{root}}/{escaped}") }
}

/// The machine file: where pkg-config looks, and the tools of the target.
pub fn machine_file(links: &Links, root: &str) -> String {
    let folder = format!("{root}/shelf/links/{}.{}", links.file_stem(), BuildTool::PkgConfig.ending());
    let mut text = format!(
        "# Made by bibliotax from the lock; changed by `bibliotax install`.\n[built-in options]\npkg_config_path = ['{}']\n",
        escaped(&folder)
    );
    if !links.tools.is_empty() {
        // In a cross build, Meson asks only the tools of the target.
        text += "\n[binaries]\npkgconfig = 'pkg-config'\n";
        for (name, command) in &links.tools {
            let words: Vec<String> =
                command.split_whitespace().map(|word| format!("'{}'", escaped(word))).collect();
            text += &format!("{} = [{}]\n", tool_of_meson(name.as_str()), words.join(", "));
        }
    }
    let facet = |name: &str| {
        links.facets.iter().find(|(facet, _)| facet.as_str() == name).map(|(_, value)| value.to_string())
    };
    if let (Some(os), Some(arch)) = (facet("os"), facet("arch")) {
        let (os, arch) = (escaped(&os), escaped(&arch));
        // Meson calls it by another name than most.
        let os = if os == "macos" { "darwin" } else { &os };
        text += &format!(
            "\n[host_machine]\nsystem = '{os}'\ncpu_family = '{arch}'\ncpu = '{arch}'\nendian = 'little'\n"
        );
    }
    text
}

/// Meson's name of a tool.
fn tool_of_meson(name: &str) -> &str {
    match name {
        "cc" => "c",
        "cxx" => "cpp",
        "run" => "exe_wrapper",
        name => name,
    }
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('\'', "\\'")
}
