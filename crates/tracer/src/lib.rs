//! The path tracer: from a scene and the description of a render to a film of two independent halves.

mod arrangement;
mod brought;
mod bsdf;
mod bvh;
mod counters;
pub mod deliver;
mod description;
mod energy;
mod fall;
mod film;
mod film_state;
mod fresnel;
mod gather;
mod ggx;
mod hold;
mod interior;
mod layout;
mod lights;
mod medium;
mod memory;
mod path;
mod pilot;
mod pool;
mod render;
mod rounds;
mod sampler;
mod sobol;
mod stage;
mod view_rays;

pub use bvh::{Bvh, Hit, Ray, World};
pub use counters::{BOUNCES, Cost, Counters, KINDS, RayKind};
pub use description::{
    Description, LIMITS, Limits, MOST_PARTS_PIXELS, Overlay, SUPERBLOCK, Strategy, VERSION, clean_up_of, film_frame_of,
    filter_of, view_of,
};
pub use fall::{Fall, Growth, Stops};
pub use film::{Film, FirstLook, Guide, superblocks};
pub use gather::{PART_NAMES, PARTS};
pub use hold::{Decision, Hold};
pub use memory::free_memory;
pub use pilot::PilotRun;
pub use pool::{cores, lower_priority, own_pool, screen_pool};
pub use render::{
    CausticKind, CausticRow, DEPTHS, Darkened, DepthKind, DepthRow, DepthTable, Ledgers, LightCost, MATTE_RAYS, Moment,
    Outlook, Phase, Plan, Progress, RayCount, Render, RenderReport, SPLIT_KINDS, SavedCounts, SavedRender, Scope,
    SplitKind, SplitRow, UNLIMITED,
};
pub use rounds::{BlockCount, LOOKS, OnTheWay, Shown, Variance, ladder, level, previous, shown, variances_at};
pub use stage::{Stage, StageTimes};
