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
mod unfollowed;
mod unknown_tag;
mod unsupplied_value;
mod unused_partial;

#[cfg(test)]
pub(crate) mod testing;

use super::Rule;

/// Rules that tell of tags that are not read.
pub(super) const ON_TAGS: &[&str] = &[malformed_tag::RULE.id, unknown_tag::RULE.id];

/// Rules that tell of pairs that are not whole, or not alone.
pub(super) const ON_PAIRS: &[&str] = &[unclosed::RULE.id, close_mismatch::RULE.id, block_twice::RULE.id];

/// Rules that rest on how pairs are read, of conditions too, and on what a dialect allows.
pub(super) const ON_READING: &[&str] = &[
    malformed_tag::RULE.id,
    unclosed::RULE.id,
    close_mismatch::RULE.id,
    block_twice::RULE.id,
    CYCLE,
    duplicate_id::RULE.id,
];

/// The rule that tells of files that form a cycle.
pub(super) const CYCLE: &str = cycle::RULE.id;

/// The rule that tells of layouts that are not named.
pub(super) const NO_PARENT: &str = no_parent::RULE.id;

/// Rules that compare a template with its layouts.
pub(super) const ON_CHAINS: &[&str] = &[
    orphan_override::RULE.id,
    missing_override::RULE.id,
    lost_content::RULE.id,
    out_of_order::RULE.id,
    dead_override::RULE.id,
    redundant_parent::RULE.id,
    NO_PARENT,
];

/// Everything that [`check`](crate::check()) looks for.
pub const RULES: &[Rule] = &[
    missing_target::RULE,
    cycle::RULE,
    unfollowed::RULE,
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
