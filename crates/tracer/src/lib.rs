//! The path tracer: from a scene and the description of a render to a film of two independent halves.

mod arrangement;
mod bsdf;
mod bvh;
pub mod deliver;
mod description;
mod energy;
mod film;
mod fresnel;
mod gather;
mod ggx;
mod layout;
mod lights;
mod medium;
mod memory;
mod path;
mod pool;
mod render;
mod rounds;
mod sampler;
mod sobol;
mod stage;
mod view_rays;

pub use bvh::{Bvh, Hit, Ray, World};
pub use description::{Description, Overlay, SUPERBLOCK, VERSION, view_of};
pub use film::{Film, FilmState, FirstLook, superblocks};
pub use gather::{PART_NAMES, PARTS};
pub use path::{Counters, KINDS, RayKind};
pub use pool::{cores, lower_priority, own_pool, screen_pool};
pub use render::{Moment, Phase, Progress, RayCount, Render, RenderReport, SavedCounts, SavedRender};
pub use rounds::{BlockCount, expected_samples, floored_variances, grain_at, growth, ladder};
pub use stage::{Stage, StageTimes};
