//! The rules, one a file.

mod block_twice;
mod close_mismatch;
mod cycle;
mod dangling_id;
mod dead_override;
mod drift;
mod duplicate_id;
mod idle_block;
mod idle_load;
mod lost_content;
mod malformed_tag;
mod missing_override;
mod missing_target;
mod no_parent;
mod orphan_override;
mod out_of_order;
mod page_relative_url;
mod redundant_parent;
mod shadow_copy;
mod shadowed;
mod split_element;
mod unclosed;
mod unknown_tag;
mod unsupplied_value;
mod unused_partial;

#[cfg(test)]
pub(crate) mod testing;

use super::Rule;

/// Everything that [`check`](crate::check) looks for.
pub const RULES: &[Rule] = &[
    missing_target::RULE,
    cycle::RULE,
    unclosed::RULE,
    close_mismatch::RULE,
    malformed_tag::RULE,
    unknown_tag::RULE,
    orphan_override::RULE,
    missing_override::RULE,
    lost_content::RULE,
    block_twice::RULE,
    out_of_order::RULE,
    dead_override::RULE,
    idle_block::RULE,
    idle_load::RULE,
    no_parent::RULE,
    redundant_parent::RULE,
    shadowed::RULE,
    shadow_copy::RULE,
    split_element::RULE,
    unused_partial::RULE,
    unsupplied_value::RULE,
    page_relative_url::RULE,
    duplicate_id::RULE,
    dangling_id::RULE,
    drift::RULE,
];
