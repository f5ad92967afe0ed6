//! How two sites of the configuration are compared.

use crate::config::{AfterSection, Config};
use crate::rules;
use crate::site::Site;
use fernweh_flow::run::Compare;
use fernweh_ports::Result;

/// Everything is compared, but for what a move from the first to the second leaves out, keeps or
/// takes away.
pub fn comparison(config: &Config, from: &Site, to: &Site) -> Result<Compare> {
    let (packing, unpacking) = (config.packing(&from.name), config.unpacking(&to.name));
    let after = config.after(&to.name).map(AfterSection::refresh).unwrap_or_default();
    let mut compare = Compare::everything(rules::configured(config, &to.name)?);
    compare.part.prefix_in.clone_from(&unpacking.prefix_in);
    let files = packing.leave_out.iter().chain(&unpacking.keep).cloned();
    compare.set_apart(&packing.without_rows, files, &after)?;
    Ok(compare)
}
