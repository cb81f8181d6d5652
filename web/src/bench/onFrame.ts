/**
 * Where a picture of a frame lies on another frame, in pixels of that one. Pixels are square: a picture of another shape is fitted
 * into the middle and never stretched.
 */
export function onFrame(picture: [number, number], frame: [number, number]) {
  const times = Math.min(frame[0] / picture[0], frame[1] / picture[1]);
  return { times, x: (frame[0] - picture[0] * times) / 2, y: (frame[1] - picture[1] * times) / 2 };
}
