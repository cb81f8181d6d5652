//! Laws that any correct picture obeys, over wide ranges: closed forms, energy, reciprocity, strategies that must agree,
//! scale, mirror images, splits. Sources stand beside each check; what has none follows from the rendering equation.

#[path = "../common/mod.rs"]
mod common;
mod files;
mod geometry;
mod lamps;
mod materials;
mod random;
mod reference;
mod solids;
