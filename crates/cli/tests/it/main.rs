//! The built program on the sample site: files in temporary folders, real servers.

mod archives;
mod configuration;
mod crashes;
mod documents;
mod journey;
mod live;
mod pages;
mod parts;
mod php;
mod servers;
mod types;
mod zoo;

use fernweh_testkit::{Engine, Stage};

const PROGRAM: &str = env!("CARGO_BIN_EXE_fernweh");

fn stage(engine: Engine) -> Stage {
    Stage::build(PROGRAM, engine)
}
