//! Paths through media: light from along a stretch, and scattering on it.

use super::light_rays::Way;
use super::*;

impl Tracer<'_> {
    /// Light from a medium's stretch, and where the path scatters in it.
    pub(super) fn through_medium(
        &self,
        path: &mut Path,
        m: &Medium,
        from: f32,
        until: f32,
        work: &mut Work,
    ) -> Option<Line> {
        // An open mesh may never end: beyond this nothing is left.
        let least = m.extinction.min_element().max(1e-9);
        let length = (until - from).min(40.0 / least);
        let stretch = Stretch { origin: path.origin_point, direction: path.direction, from, length };
        let may = path.used[VOLUME] < self.settings.depths[VOLUME] && path.bounce < self.settings.depth;
        if !m.scatters() || !may {
            path.throughput *= m.transmittance(length);
            return None;
        }
        self.line_light(path, m, &stretch, work);
        let [channel, u, ..] = path.set(set::MEDIUM);
        let channels = Medium::channels(path.throughput);
        let (at, weight) = m.draw(length, channels, channel, u);
        path.throughput *= weight;
        at.map(|at| Line { stretch, medium: *m, at, density: m.density(channels, at) })
    }

    /// One light ray from somewhere on a stretch of a medium.
    fn line_light(&self, path: &Path, m: &Medium, stretch: &Stretch, work: &mut Work) {
        let lights = &self.arrangement.lights;
        let [choice, strategy, along, _] = path.set(set::LINE);
        let middle = midpoint(stretch);
        let Some((which, chance)) = lights.choose(&lights.odds(&middle), &middle, choice) else { return };
        let manner = lights.manner(which);
        if which == Which::Sky && !lights.environment().is_some_and(|e| e.light) {
            return;
        }
        let centre = lights.centre(which);
        let at = stretch.draw(m, centre, strategy, along);
        let density = stretch.density(m, centre, at);
        let position = stretch.at(at);
        let [u, v, ..] = path.set(set::LINE_LIGHT);
        let Some(l) = lights.sample(which, position, Vec2::new(u, v)) else { return };
        let light = match l.emitter {
            Some((instance, triangle, u, v)) => l.light * self.stage.sent_from(instance, triangle, u, v),
            None => l.light,
        };
        let phase = m.phase(path.direction.dot(l.direction));
        let value = path.throughput * m.transmittance(at) * m.scattering * light * (phase / (chance * density));
        if value.is_nan() || value.max_element() <= 0.0 {
            return;
        }
        let weight = match l.pdf {
            Some(pdf) if !manner.only_sampled() => {
                let scattered = m.density(Medium::channels(path.throughput), at) * phase;
                self.weigh(Strategy::LightRays, chance * density * pdf, scattered)
            }
            _ => 1.0,
        };
        work.count(path.charge_light(VOLUME));
        let way = Way { from: position, to: l.end(position), interior: path.interior, passed: path.passed };
        let seen = self.seen(which, way);
        work.charge(|| path.charge_light(VOLUME));
        let part = part_of(path.part.unwrap_or(VOLUME), path.bounce > 0);
        let light = value * seen * weight;
        self.add_by(path, Arrived { part, group: manner.group, light, by: Some(VOLUME) }, work);
    }

    /// The path after a scattering in a medium.
    pub(super) fn scatter_midway(&self, path: &Path, line: &Line) -> Option<Path> {
        let mut next = *path;
        let [_, _, u, v] = path.set(set::MEDIUM);
        let position = line.stretch.at(line.at);
        let direction = line.medium.turn(path.direction, Vec2::new(u, v));
        let phase = line.medium.phase(path.direction.dot(direction));
        next.used[VOLUME] += 1;
        next.part.get_or_insert(VOLUME);
        next.ray_kind = RayKind::Volume;
        next.after_diffuse = true;
        let odds = self.arrangement.lights.odds(&midpoint(&line.stretch));
        let from = Receiving { receiver: Receiver { position, normal: None, both_sides: true }, odds };
        next.origin = Some(Origin { from, pdf: Some(phase), first: false, line: Some(*line) });
        next.origin_point = position;
        next.direction = direction;
        next.travelled = 0.0;
        next.guides = false;
        next.sky = Vec3::splat(self.arrangement.lights.environment().is_some_and(|by| by.light) as u32 as f32);
        self.survive(&mut next).then_some(next)
    }
}

/// The point that stands for a stretch when a light is chosen for it.
pub(super) fn midpoint(stretch: &Stretch) -> Receiver {
    Receiver { position: stretch.at(0.5 * stretch.length), normal: None, both_sides: true }
}
