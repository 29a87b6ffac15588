import * as THREE from 'three';

/** Names of the kinds of paths, in the order of the server's numbers. */
export const KINDS = ['outer wall', 'inner walls', 'thin places', 'top', 'bottom', 'bridges', 'infill', 'supports', 'interface', 'skirt', 'brim', 'raft', 'strands', 'purging', 'smoothing', 'ways inside'];
/** Their colours, the same as in the style sheet, and beside each a mark along the bead: none, a line, ticks, dashes. */
const COLOURS = ['#20506b', '#6f9bb3', '#c2307a', '#3f8f5a', '#7ba33c', '#e08a1e', '#b7a98f', '#b4693b', '#7d4421', '#8a63b0', '#8a63b0', '#6d5340', '#1b1b1b', '#c9b23a', '#8fd1c5', '#d03a2b'];
const MARKS = [0, 1, 0, 2, 3, 2, 0, 3, 2, 0, 1, 3, 3, 2, 1, 0];
/** Ways of the nozzle are no beads: they are left out until they are asked for. */
export const WAYS = 15;

/** What beads are coloured by, wherever they are drawn. */
export const beadUniforms = () => ({
  colours: { value: COLOURS.map((c) => new THREE.Color(c)) }, marks: { value: MARKS }, shown: { value: KINDS.map((_, kind) => (kind === WAYS ? 0 : 1)) },
  mode: { value: 0 }, line: { value: 0.44 }, fastest: { value: 255 }, wideMm: { value: 1 },
});

/** Colour of a bead: half its width (mm), speed in its byte, nozzle, place along it (mm), and how far from its middle (0 to 1). */
export const BEAD_COLOUR = /* glsl */ `
  uniform vec3 colours[16]; uniform float marks[16]; uniform float shown[16]; uniform float mode; uniform float line; uniform float fastest;
  vec3 beadColour(int kind, float r, float fast, float nozzle, float along, float away) {
    vec3 colour = colours[kind];
    float ticks = fract(along / 0.8);
    if (mode > 3.5) {
      // By nozzle: the second is dark, with ticks.
      colour = nozzle > 0.5 ? vec3(0.13, 0.13, 0.16) * (ticks < 0.3 ? 2.6 : 1.0) : vec3(0.55, 0.68, 0.74);
    } else if (mode > 1.5) {
      // By speed, slow ones dark; or by what a length of them takes, the longest dark: steps make levels told apart.
      float share = clamp(fast * 255.0 / fastest, 0.0, 1.0);
      if (mode > 2.5) share = 1.0 - clamp((fastest / max(fast * 255.0, 1.0) - 1.0) / 4.0, 0.0, 1.0);
      share = floor(share * 8.0 + 0.5) / 8.0;
      colour = mix(vec3(0.27, 0.05, 0.30), mix(vec3(0.80, 0.38, 0.24), vec3(0.98, 0.92, 0.62), clamp(2.0 * share - 1.0, 0.0, 1.0)), clamp(2.0 * share, 0.0, 1.0));
    } else if (mode > 0.5) {
      // By width: as wide as a line in the middle, thinner ones blue, wider ones orange.
      float wide = clamp(2.0 * r / line - 1.0, -0.6, 0.6) / 0.6;
      colour = wide < 0.0 ? mix(vec3(0.83, 0.84, 0.80), vec3(0.13, 0.33, 0.62), -wide) : mix(vec3(0.83, 0.84, 0.80), vec3(0.80, 0.38, 0.06), wide);
    } else {
      float mark = marks[kind];
      if (mark > 0.5 && mark < 1.5 && away < 0.22) colour = mix(colour, vec3(1.0), 0.55);
      if (mark > 1.5 && mark < 2.5 && ticks < 0.22) colour *= 0.68;
      if (mark > 2.5 && ticks < 0.5 && away < 0.3) colour = mix(colour, vec3(1.0), 0.45);
    }
    // Round on top.
    return colour * (1.04 - 0.42 * away * away);
  }
`;
