//! Writes what is made from the program itself: `pages manual FOLDER`, `pages reference FILE` and
//! `pages schema FOLDER`. `scripts/package` and `scripts/documents` call it.

use std::path::Path;
use std::process::ExitCode;

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let written = match words.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["manual", folder] => fernweh::manual_pages(Path::new(folder)),
        ["reference", file] => std::fs::write(file, fernweh::reference()),
        ["schema", folder] => fernweh::schemas().into_iter().try_for_each(|(name, schema)| {
            std::fs::write(Path::new(folder).join(name), format!("{schema:#}\n"))
        }),
        _ => {
            eprintln!("pages manual FOLDER | reference FILE | schema FOLDER");
            return ExitCode::from(2);
        }
    };
    match written {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("cannot write: {error}");
            ExitCode::FAILURE
        }
    }
}
