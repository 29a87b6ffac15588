import { fetchBlock, readLayers } from './blocks.js';

/** @typedef {{z: number[], area: number[]}} Profile  middles of layers (mm) and their areas, mm2 */
/** @typedef {import('./neighbours.js').Body & {layers: string | null}} Layered */

/**
 * Area of each layer of all that is printed on a plate: parts, supports and footing together.
 * @param {Record<string, Layered>} bodies @param {import('./neighbours.js').Standing[]} standing @param {number} layer  mm
 * @returns {Promise<Profile>}
 */
export async function plateProfile(bodies, standing, layer) {
  /** @type {number[]} */
  const area = [];
  for (const [item, body] of Object.entries(bodies)) {
    const count = standing.filter((one) => one.item === item).length;
    if (!count) continue;
    const blocks = await Promise.all([
      body.layers && fetchBlock(`/api/blocks/layers/${body.layers}`),
      body.supports && fetchBlock(`/api/blocks/supports/${body.supports}/layers`),
      body.footing && fetchBlock(`/api/blocks/footing/${body.footing}/layers`),
    ]);
    blocks.forEach((block, k) => {
      if (!block) return;
      const stack = readLayers(block);
      // What a raft raises is the part and its supports.
      const first = Math.round((stack.base + (k < 2 ? body.raise : 0)) / layer);
      stack.area.forEach((one, level) => { area[first + level] = (area[first + level] ?? 0) + count * one; });
    });
  }
  return { z: Array.from(area, (_, k) => (k + 0.5) * layer), area: Array.from(area, (one) => one ?? 0) };
}
