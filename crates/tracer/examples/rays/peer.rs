//! A general-purpose C library for ray intersection (Debian's libembree-dev 3.13), loaded when the benchmark runs, so that
//! nothing else depends on it.

use glam::Vec3;
use libloading::{Library, Symbol};
use std::ffi::c_void;
use std::ptr::{null, null_mut};
use tracer::Ray;

type Handle = *mut c_void;

#[repr(C, align(16))]
struct RayHit {
    origin: [f32; 3],
    near: f32,
    direction: [f32; 3],
    time: f32,
    far: f32,
    mask: u32,
    id: u32,
    flags: u32,
    normal: [f32; 3],
    u: f32,
    v: f32,
    triangle: u32,
    geometry: u32,
    instance: u32,
}

#[repr(C)]
struct Context {
    flags: i32,
    filter: *const c_void,
    instance: u32,
}

type Trace = unsafe extern "C" fn(Handle, *mut Context, *mut RayHit);

/// The library with a scene of one mesh.
pub struct Peer {
    scene: Handle,
    intersect: Trace,
    occluded: Trace,
}

impl Peer {
    /// None if the library is not installed. `robust` asks for its watertight mode.
    pub fn new(positions: &[Vec3], triangles: &[[u32; 3]], robust: bool) -> Option<Peer> {
        // SAFETY: the library's C interface, version 3, as its headers declare it. The buffers are copied into its own.
        unsafe {
            let library = Library::new("libembree3.so.3").ok()?;
            let new_device: Symbol<unsafe extern "C" fn(*const i8) -> Handle> = library.get(b"rtcNewDevice").ok()?;
            let new_scene: Symbol<unsafe extern "C" fn(Handle) -> Handle> = library.get(b"rtcNewScene").ok()?;
            let set_flags: Symbol<unsafe extern "C" fn(Handle, i32)> = library.get(b"rtcSetSceneFlags").ok()?;
            let new_geometry: Symbol<unsafe extern "C" fn(Handle, i32) -> Handle> =
                library.get(b"rtcNewGeometry").ok()?;
            let new_buffer: Symbol<unsafe extern "C" fn(Handle, i32, u32, i32, usize, usize) -> Handle> =
                library.get(b"rtcSetNewGeometryBuffer").ok()?;
            let commit_geometry: Symbol<unsafe extern "C" fn(Handle)> = library.get(b"rtcCommitGeometry").ok()?;
            let attach: Symbol<unsafe extern "C" fn(Handle, Handle) -> u32> = library.get(b"rtcAttachGeometry").ok()?;
            let commit_scene: Symbol<unsafe extern "C" fn(Handle)> = library.get(b"rtcCommitScene").ok()?;
            let device = new_device(null());
            let scene = new_scene(device);
            const ROBUST: i32 = 4;
            set_flags(scene, if robust { ROBUST } else { 0 });
            const TRIANGLES: i32 = 0;
            const INDEX: i32 = 0;
            const VERTEX: i32 = 1;
            const UINT3: i32 = 0x5003;
            const FLOAT3: i32 = 0x9003;
            let geometry = new_geometry(device, TRIANGLES);
            let p = new_buffer(geometry, VERTEX, 0, FLOAT3, 12, positions.len()).cast::<[f32; 3]>();
            let t = new_buffer(geometry, INDEX, 0, UINT3, 12, triangles.len()).cast::<[u32; 3]>();
            if p.is_null() || t.is_null() {
                return None;
            }
            for (i, v) in positions.iter().enumerate() {
                p.add(i).write(v.to_array());
            }
            t.copy_from_nonoverlapping(triangles.as_ptr(), triangles.len());
            commit_geometry(geometry);
            attach(scene, geometry);
            commit_scene(scene);
            let intersect = *library.get::<Trace>(b"rtcIntersect1").ok()?;
            let occluded = *library.get::<Trace>(b"rtcOccluded1").ok()?;
            // Its threads go on to the end of the program.
            std::mem::forget(library);
            Some(Peer { scene, intersect, occluded })
        }
    }

    fn trace(&self, ray: &Ray, how: Trace) -> RayHit {
        let mut context = Context { flags: 0, filter: null(), instance: u32::MAX };
        let mut r = RayHit {
            origin: ray.origin.to_array(),
            near: 0.0,
            direction: ray.direction.to_array(),
            time: 0.0,
            far: ray.far,
            mask: u32::MAX,
            id: 0,
            flags: 0,
            normal: [0.0; 3],
            u: 0.0,
            v: 0.0,
            triangle: u32::MAX,
            geometry: u32::MAX,
            instance: u32::MAX,
        };
        debug_assert_ne!(self.scene, null_mut());
        // SAFETY: all three live through the call, laid out as the library wants them.
        unsafe { how(self.scene, &mut context, &mut r) };
        r
    }

    pub fn nearest(&self, ray: &Ray) -> Option<(f32, u32)> {
        let r = self.trace(ray, self.intersect);
        (r.geometry != u32::MAX).then_some((r.far, r.triangle))
    }

    pub fn blocked(&self, ray: &Ray) -> bool {
        self.trace(ray, self.occluded).far < 0.0
    }
}
