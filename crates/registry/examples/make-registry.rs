//! Writes a registry of so many packages with so many releases each, for `bench/scale.sh`: histories and the list of names as
//! publishing would leave them, without the archives and cards that nobody reads there.
//!
//! `make-registry FOLDER PACKAGES RELEASES`

use std::error::Error;
use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::path::Path;

use bibliotax_core::digest::Digest;
use bibliotax_registry::model::names::{NAMES, frames};

const WORDS: [&str; 128] = [
    "acorn", "alder", "apple", "arbor", "ash", "aspen", "autumn", "bark", "barley", "basil", "basin", "bean",
    "bed", "bee", "beech", "berry", "birch", "bird", "bloom", "bough", "branch", "briar", "brook", "bud",
    "bulb", "bush", "canopy", "cedar", "cherry", "clay", "clover", "compost", "copse", "cress", "crocus",
    "cutting", "daisy", "dew", "drain", "drip", "dusk", "earth", "elder", "elm", "fern", "fescue", "field",
    "fig", "flax", "fog", "frost", "fruit", "furrow", "garden", "garlic", "gate", "glade", "grain", "grass",
    "grove", "hail", "harvest", "hazel", "heath", "hedge", "herb", "holly", "hops", "hose", "humus", "iris",
    "ivy", "kale", "lawn", "leaf", "leek", "lichen", "light", "lilac", "lily", "linden", "loam", "mallow",
    "maple", "marsh", "meadow", "mint", "mist", "moss", "mulch", "nectar", "nettle", "oak", "oats",
    "orchard", "path", "pear", "petal", "pine", "plum", "pollen", "pond", "poppy", "trim", "rain", "reed",
    "ridge", "root", "rose", "rowan", "rush", "sage", "sap", "seed", "shade", "shoot", "shrub", "snow",
    "soil", "spade", "sprout", "stem", "sun", "thyme", "trellis", "vine", "water", "yew",
];

fn main() -> Result<(), Box<dyn Error>> {
    let [_, folder, packages, releases] = &std::env::args().collect::<Vec<_>>()[..] else {
        return Err("usage: make-registry FOLDER PACKAGES RELEASES".into());
    };
    let (packages, releases): (u64, u64) = (packages.parse()?, releases.parse()?);
    let root = Path::new(folder);
    fs::create_dir_all(root.join("files"))?;
    for bin in 0..256 {
        fs::create_dir_all(root.join(format!("packages/{bin:02x}")))?;
    }
    fs::write(root.join("registry.json"), "{\"format\":1,\"name\":\"seedhouse\"}\n")?;
    let mut list = fs::File::create(root.join(NAMES))?;
    let mut lines = String::new();
    for number in 0..packages {
        let name = name(number);
        let mut random = Random(number.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        let mut needs: Vec<String> = Vec::new();
        for _ in 0..random.below(4).min(number) {
            // Few are needed by many.
            let share = random.below(1000) * random.below(1000);
            needs.push(self::name(number * share / 1_000_000));
        }
        needs.sort();
        needs.dedup();
        fs::write(root.join(path(&name)), history(&name, releases, &needs))?;
        let summary: Vec<&str> = (0..6).map(|_| WORDS[random.below(128) as usize]).collect();
        writeln!(
            lines,
            "{{\"name\":\"{name}\",\"newest\":\"1.{}.0\",\"published\":\"2026-0{}-01T00:00:00Z\",\"summary\":\"The {}\",\"tags\":[\"{}\"],\"needs\":{}}}",
            releases - 1,
            1 + number % 9,
            summary.join(" "),
            WORDS[random.below(128) as usize],
            serde_json::to_string(&needs)?
        )?;
        if lines.len() > 4 << 20 || number + 1 == packages {
            list.write_all(&frames(lines.as_bytes())?)?;
            lines.clear();
        }
    }
    Ok(())
}

fn history(name: &str, releases: u64, needs: &[String]) -> String {
    let needs: Vec<String> =
        needs.iter().map(|need| format!("{{\"name\":\"{need}\",\"range\":\"1\"}}")).collect();
    let mut history = String::new();
    for release in 0..releases {
        let card = Digest::of(format!("{name} {release}").as_bytes());
        // Writing to a text can't fail.
        let _ = writeln!(
            history,
            "{{\"event\":\"release\",\"name\":\"{name}\",\"version\":\"1.{release}.0\",\"published\":\"2026-01-01T00:00:00Z\",\"needs\":[{}],\"card\":\"{card}\"}}",
            needs.join(",")
        );
    }
    history
}

/// The name of a package by its number: three words, each set of them once.
fn name(number: u64) -> String {
    // An odd factor and a power of two: neighbours in number are no neighbours in name.
    let mixed = (number * 1_103_515) % (1 << 21);
    let word = |place: u64| WORDS[((mixed >> (7 * place)) & 127) as usize];
    format!("{}-{}-{}", word(0), word(1), word(2))
}

fn path(name: &str) -> String {
    format!("packages/{}/{name}.jsonl", Digest::of(name.as_bytes()).folder())
}

/// Numbers that look random and are the same each time.
struct Random(u64);

impl Random {
    fn below(&mut self, end: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % end
    }
}
