import * as THREE from 'three';
import { OrbitControls } from 'three/addons/controls/OrbitControls.js';
import { ConvexGeometry } from 'three/addons/geometries/ConvexGeometry.js';
import { BeadLayer } from './bead-layer.js';
import { Before } from './before.js';
import { Brush } from './brush.js';
import { hasCard } from './graphics.js';
import { Labels } from './labels.js';
import { LayerCap } from './layer-cap.js';
import { Neighbours } from './neighbours.js';
import { Pair } from './pair.js';
import { PartBody } from './part.js';
import { boxLines } from './cells.js';
import { CutPlane } from './cutplane.js';
import { drawsFrusta, shellGeometry } from './frusta.js';
import { Pieces } from './pieces.js';
import { drawPlate, layPlate } from './plate.js';
import { centreSign, placeSign, shadowSign } from './signs.js';

const COLOURS = { paper: '#ebe7de', ink: '#20303a', heron: '#2f5d73', copper: '#b4693b', footing: '#d9ae8c', defect: '#b3261e' };
/** Lines round what is kept whole. */
const KEPT = new THREE.Color('#5b2378');
const DIRECTIONS = {
  front: [0, -1, 0.12], side: [1, 0, 0.12], above: [0, -0.001, 1], below: [0.35, -0.6, -1], corner: [0.62, -1, 0.55],
};

/** The 3D view: plate, part, supports, footing, layer cut, pieces. World space is the plate: mm, Z up. */
export class View {
  /** @param {HTMLCanvasElement} canvas @param {HTMLElement} tags  element for the small labels */
  constructor(canvas, tags) {
    this.canvas = canvas;
    this.labels = new Labels(tags);
    /** Told when the view was drawn. @type {(() => void) | undefined} */
    this.drawn = undefined;
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: hasCard() });
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.localClippingEnabled = true;
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color(COLOURS.paper);
    this.cut = new THREE.Plane(new THREE.Vector3(0, 0, -1), 1e6);
    /** What is nearer to the eye is cut away at it, too. */
    this.side = new THREE.Plane(new THREE.Vector3(0, 1, 0), 1e6);
    this.planes = [this.cut, this.side];
    this.scene.add(new THREE.HemisphereLight('#ffffff', '#6f7478', 1.35));
    this.sun = new THREE.DirectionalLight('#fffaf0', 2.3);
    this.scene.add(this.sun, this.sun.target);
    this.plate = new THREE.Group();
    this.neighbours = new Neighbours(this.planes);
    this.scene.add(this.plate, this.neighbours.group);
    this.supports = this.#shell(COLOURS.copper);
    /** What is drawn of both. @type {Record<string, import('./frusta.js').Shell | null>} */
    this.shells = { supports: null, footing: null };
    this.footing = this.#shell(COLOURS.footing);
    this.ghost = new THREE.Mesh(new THREE.BufferGeometry(), new THREE.MeshLambertMaterial({ color: '#2f7d9c', transparent: true, opacity: 0.42, depthWrite: false }));
    this.ghost.matrixAutoUpdate = false;
    this.ghost.visible = false;
    const capped = [this.side];
    this.caps = { part: new LayerCap('#dbe7ec', COLOURS.heron, capped), support: new LayerCap('#dba27f', '#7d4421', capped), footing: new LayerCap('#f0d5bf', '#9a6a45', capped) };
    this.pieces = new Pieces();
    this.cutPlane = new CutPlane();
    this.cells = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: COLOURS.heron, transparent: true, opacity: 0.55 }));
    this.cells.matrixAutoUpdate = this.cells.visible = false;
    this.beads = new BeadLayer(this.planes);
    this.scene.add(this.beads.mesh, this.beads.seams, this.beads.section.mesh, this.supports, this.footing, this.ghost, this.pieces, this.cells, ...Object.values(this.caps).map((c) => c.group));
    /** @type {PartBody | null} */
    this.part = null;
    this.perspective = new THREE.PerspectiveCamera(32, 1, 1, 20000);
    this.flat = new THREE.OrthographicCamera(-1, 1, 1, -1, -20000, 20000);
    /** @type {THREE.PerspectiveCamera | THREE.OrthographicCamera} */
    this.camera = this.perspective;
    for (const camera of [this.perspective, this.flat]) camera.up.set(0, 0, 1);
    /** @type {OrbitControls & {object: THREE.Camera}} */
    this.controls = new OrbitControls(this.camera, canvas);
    this.controls.addEventListener('change', () => this.redraw());
    this.size = [100, 100, 100];
    this.at = [0, 0];
    this.build = [200, 200, 200];
    this.abort = new AbortController();
    new ResizeObserver(() => this.resize()).observe(canvas.parentElement);
    this.resize();
    canvas.addEventListener('pointermove', (e) => this.#hover(e), { signal: this.abort.signal });
    /** @type {THREE.LineSegments[]} */
    this.keptBoxes = [];
    canvas.addEventListener('pointerdown', (e) => { this.pressed = [e.clientX, e.clientY]; }, { signal: this.abort.signal });
    canvas.addEventListener('click', (e) => this.#click(e), { signal: this.abort.signal });
    this.brush = new Brush(this);
    this.before = new Before(this);
    this.frames = 0;
  }

  #shell(colour) {
    const material = new THREE.MeshLambertMaterial({ color: colour, emissive: colour, emissiveIntensity: 0.22, flatShading: true, clippingPlanes: this.planes });
    drawsFrusta(material);
    const mesh = new THREE.Mesh(new THREE.BufferGeometry(), material);
    mesh.visible = false;
    return mesh;
  }

  /** Draw at the next frame. */
  redraw() {
    if (this.pending) return;
    this.pending = requestAnimationFrame(() => {
      this.pending = 0;
      this.#draw();
    });
  }

  #draw() {
    this.frames += 1;
    // The lamp stands to the left of the eye and above it, so that faces at an angle differ in tone.
    const away = this.camera.position.distanceTo(this.controls.target);
    _point.setFromMatrixColumn(this.camera.matrixWorld, 0).multiplyScalar(-0.75 * away);
    this.sun.position.copy(this.camera.position).add(_point);
    this.sun.position.z += 0.5 * away;
    this.sun.target.position.copy(this.controls.target);
    this.renderer.render(this.scene, this.camera);
    const { clientWidth, clientHeight } = this.canvas.parentElement;
    this.labels.place(this.camera, this.cut.constant, clientWidth, clientHeight);
    this.drawn?.();
  }

  /** PNG of the view as a data address, drawn now. */
  snapshot() {
    this.#draw();
    return this.canvas.toDataURL('image/png');
  }

  /** Fit what is drawn to the room there is. */
  resize() {
    const { clientWidth: w, clientHeight: h } = this.canvas.parentElement;
    if (!w || !h) return;
    this.renderer.setSize(w, h, false);
    this.perspective.aspect = w / h;
    this.perspective.updateProjectionMatrix();
    const half = (this.flat.top - this.flat.bottom) / 2;
    this.flat.left = (-half * w) / h;
    this.flat.right = (half * w) / h;
    this.flat.updateProjectionMatrix();
    this.redraw();
  }

  // Plate ---------------------------------------------------------------------

  /** @param {number[]} build  x, y, z of the build volume, mm */
  setMachine(build) {
    this.build = build;
    drawPlate(this.plate, build);
    this.redraw();
  }

  /** @param {number[]} stands  where the item stands on its plate: x, y (mm) and swing (degrees) */
  setStands(stands) {
    layPlate(this.plate, stands);
    layPlate(this.neighbours.group, stands);
    this.redraw();
  }

  /**
   * Show what else stands on the plate, or nothing of it; the eye steps back for all of them.
   * @param {Record<string, import('./neighbours.js').Body> | null} bodies @param {import('./neighbours.js').Standing[]} standing
   * @returns {Promise<number>}  how many are left out
   */
  async setNeighbours(bodies, standing) {
    const was = this.neighbours.group.visible;
    this.neighbours.clear();
    const drawing = bodies ? this.neighbours.show(bodies, standing) : Promise.resolve(0);
    if (was !== this.neighbours.group.visible) this.look('corner');
    const left = await drawing;
    this.redraw();
    return left;
  }

  // Part ------------------------------------------------------------------------

  /** @param {import('./blocks.js').MeshData} data @param {boolean} closed */
  setPart(data, closed) {
    if (this.part) {
      this.scene.remove(this.part.mesh);
      this.part.dispose();
    }
    this.part = new PartBody(data, this.planes, closed);
    this.scene.add(this.part.mesh);
    this.ghost.geometry = this.part.geometry;
  }

  /**
   * Stand the part as the sheet says.
   * @param {number[]} rotation  nine numbers, row by row
   * @param {number} lift @param {number} raised  mm
   * @param {number[]} at  x, y of its middle on the plate, mm
   */
  stand(rotation, lift, raised, at) {
    this.held = null;
    this.at = at;
    this.lift = lift;
    this.raised = raised;
    this.part.stand(new THREE.Matrix3().fromArray(rotation).transpose(), lift, raised, at);
    this.supports.position.z = raised;
    const box = new THREE.Box3().setFromBufferAttribute(/** @type {THREE.BufferAttribute} */ (this.part.geometry.getAttribute('position'))).applyMatrix4(this.part.mesh.matrix);
    const before = this.size && Math.hypot(...this.size);
    this.size = [box.max.x - box.min.x, box.max.y - box.min.y, lift + raised + this.part.height];
    /** Whether the part has another size than before, so that the eye has to step back or come near. */
    this.grown = Boolean(before) && Math.abs(Math.hypot(...this.size) / before - 1) > 0.05;
    this.redraw();
  }

  /** Look at the whole part from a side. @param {string} name  front, side, above, below, corner */
  look(name) {
    // Two stances are wide and low: the corners of the box they share are empty.
    const around = this.neighbours.group.visible;
    const span = around ? Math.hypot(this.build[0], this.build[1], this.size[2]) * 0.92 : Math.hypot(...this.size) * (this.pair ? 0.8 : 1);
    const target = around ? this.plate.position.clone().setZ(this.size[2] / 3) : new THREE.Vector3(...this.at, this.size[2] / 2);
    const away = new THREE.Vector3(...DIRECTIONS[name]).normalize();
    const { clientWidth: w, clientHeight: h } = this.canvas.parentElement;
    const fit = Math.min(1, w / Math.max(h, 1));
    const distance = (0.56 * span) / Math.tan((this.perspective.fov * Math.PI) / 360) / fit;
    for (const camera of [this.perspective, this.flat]) camera.position.copy(target).addScaledVector(away, distance);
    const half = (0.56 * span) / fit;
    this.flat.top = half;
    this.flat.bottom = -half;
    this.flat.zoom = 1;
    this.perspective.near = Math.max(0.5, distance / 200);
    this.perspective.far = distance * 20 + 4000;
    this.controls.target.copy(target);
    this.controls.update();
    this.resize();
  }

  /** @param {boolean} on */
  setPerspective(on) {
    const next = on ? this.perspective : this.flat;
    next.position.copy(this.camera.position);
    this.camera = next;
    this.controls.object = next;
    this.controls.update();
    this.resize();
  }

  /** @param {number} limit  degrees from vertical; draws only, asks nothing of the server */
  setLimit(limit) {
    this.part?.setLimit(limit);
    this.redraw();
  }

  /** @param {boolean} shown */
  showOverhangs(shown) {
    this.part?.showOverhangs(shown);
    this.redraw();
  }

  /** Show a stance before it is chosen. @param {number[] | null} q  quaternion w, x, y, z */
  setGhost(q) {
    this.ghost.visible = Boolean(q && this.part);
    if (q && this.part) {
      const turn = new THREE.Matrix4().makeRotationFromQuaternion(new THREE.Quaternion(q[1], q[2], q[3], q[0]));
      this.ghost.matrix.copy(this.part.placing(new THREE.Matrix3().setFromMatrix4(turn), this.lift, this.at).matrix);
    }
    this.redraw();
  }

  /**
   * Draw a defect over the part, and come near to it; without one, draw none.
   * @param {{lines: number[], facets: number[], at: number[], facing: number[], colour?: string} | null} place  in the frame of the part
   */
  setPlace(place) {
    if (this.place) {
      this.place.traverse((/** @type {any} */ o) => { o.geometry?.dispose(); o.material?.dispose(); });
      this.place.removeFromParent();
      this.place = null;
    }
    if (place && this.part) {
      const drawn = placeSign(place, COLOURS.defect);
      this.place = drawn.sign;
      this.part.mesh.add(this.place);
      this.part.mesh.updateMatrixWorld(true);
      const at = new THREE.Vector3(...place.at).applyMatrix4(this.part.mesh.matrixWorld);
      const near = Math.max(4 * drawn.long, 0.45 * Math.hypot(...this.size));
      // From the side that it faces, a little from above; without one, from where the eye is.
      const away = new THREE.Vector3(...place.facing).transformDirection(this.part.mesh.matrixWorld);
      if (!(away.length() > 0.5)) away.subVectors(this.camera.position, this.controls.target).normalize();
      if (away.z > -0.6) away.z += 0.4;
      else away.y -= 0.3;
      for (const camera of [this.perspective, this.flat]) camera.position.copy(at).addScaledVector(away.normalize(), near);
      this.controls.target.copy(at);
      this.controls.update();
    }
    this.redraw();
  }

  /**
   * A point of the plate as a place to come near to.
   * @param {number[]} at  x, y, z, mm @param {number} raise  mm, by a raft @param {string} colour
   */
  spot(at, raise, colour) {
    const here = new THREE.Vector3(at[0], at[1], at[2] + raise).applyMatrix4(this.part.mesh.matrix.clone().invert());
    return { lines: [], facets: [], at: here.toArray(), facing: [0, 0, 0], colour };
  }

  // Figures and turning by hand ----------------------------------------------------

  /**
   * Show what a figure speaks of; without a kind, nothing.
   * @param {string} kind @param {{limit?: number, show?: number[] | null, centre?: number[] | null}} o
   */
  pointAt(kind, o) {
    for (const name of ['shadow', 'centre']) {
      this[name]?.removeFromParent();
      this[name] = null;
    }
    if (!this.part) return;
    const facets = ['overhang', 'contact', 'flat', 'stairs', 'show'].includes(kind);
    this.part.light(facets ? this.part.select(/** @type {any} */ (kind), { limit: o.limit ?? 90, show: o.show ?? null }) : null);
    if (kind === 'shadow') {
      this.shadow = shadowSign(this.part);
      this.scene.add(this.shadow);
    } else if (kind === 'centre' && o.centre) {
      const [x, y, z] = [this.at[0] - this.size[0] / 2 + o.centre[0], this.at[1] - this.size[1] / 2 + o.centre[1], this.lift + this.raised + o.centre[2]];
      this.centre = centreSign(x, y, z);
      this.scene.add(this.centre);
    }
    this.redraw();
  }

  /** Draw the main load as an arrow onto the part, or none. @param {number[] | null} load  direction in the frame of the part */
  setLoad(load) {
    this.loadArrow?.removeFromParent();
    this.loadArrow = null;
    if (load && this.part) {
      const away = new THREE.Vector3(...load).transformDirection(this.part.mesh.matrix);
      const middle = new THREE.Vector3(...this.at, this.size[2] / 2 + this.lift + this.raised);
      const long = 0.75 * Math.hypot(...this.size);
      this.loadArrow = new THREE.ArrowHelper(away, middle.addScaledVector(away, -long), 0.55 * long, '#b3261e', 0.1 * long, 0.06 * long);
      this.scene.add(this.loadArrow);
    }
    this.redraw();
  }

  /**
   * Turn the part while the hand holds it: colours, shadow and limit follow, nothing is asked of the server.
   * @param {{lean: number, towards: number, swing: number}} turn  degrees, from where it stands
   * @returns {number[]}  quaternion w, x, y, z of the new stance
   */
  turnBy({ lean, towards, swing }) {
    const from = new THREE.Matrix4().setFromMatrix3(this.held ?? (this.held = this.part.rotation.clone()));
    const a = (towards * Math.PI) / 180;
    const axis = new THREE.Vector3(-Math.sin(a), Math.cos(a), 0);
    const turn = new THREE.Matrix4().makeRotationAxis(axis, (lean * Math.PI) / 180);
    turn.premultiply(new THREE.Matrix4().makeRotationZ((swing * Math.PI) / 180)).multiply(from);
    const rotation = new THREE.Matrix3().setFromMatrix4(turn);
    this.part.stand(rotation, this.lift, this.raised, this.at);
    this.supports.visible = this.footing.visible = false;
    this.pointAt('shadow', {});
    const q = new THREE.Quaternion().setFromRotationMatrix(turn);
    this.turnedTo = [q.w, q.x, q.y, q.z];
    return this.turnedTo;
  }

  /** The hand has let go. */
  letGo() {
    this.held = null;
    this.pointAt('', {});
  }

  // Two stances side by side --------------------------------------------------------

  /**
   * Show two stances side by side instead of the one that stands; without them, that one again.
   * @param {import('./pair.js').Standing | null} left @param {import('./pair.js').Standing} [right]
   */
  setPair(left, right) {
    const shown = Boolean(left && this.part);
    this.pair?.dispose();
    this.pair = shown ? new Pair(this.part, left, right) : null;
    for (const body of [this.part?.mesh, this.supports, this.footing, ...Object.values(this.caps).map((c) => c.group)]) if (body) body.visible = false;
    if (this.pair) {
      this.scene.add(this.pair.group);
      this.setTags(this.pair.tags);
      this.kept = { size: this.size, at: this.at };
      this.size = this.pair.size;
      this.at = [0, 0];
    } else {
      if (this.part) this.part.mesh.visible = true;
      for (const name of ['supports', 'footing']) this[name].visible = this[name].geometry.index !== null;
      if (this.kept) ({ size: this.size, at: this.at } = this.kept);
      this.kept = null;
      this.setTags([]);
    }
    this.look('corner');
  }

  // Before mending ---------------------------------------------------------------

  /**
   * Keep what the part was before it was mended.
   * @param {import('./blocks.js').MeshData | null} data @param {number[]} factors  size, along its axes
   */
  setBefore(data, factors) {
    this.before.set(data, factors);
  }

  /** @param {'before' | 'after' | 'both'} which */
  showMended(which) {
    this.before.show(which);
  }

  // Supports, footing, pieces -----------------------------------------------------

  /** @param {'supports' | 'footing'} which @param {import('./frusta.js').Shell | null} data */
  setShell(which, data) {
    const mesh = this[which];
    mesh.geometry.dispose();
    mesh.geometry = shellGeometry(data, mesh.material);
    mesh.visible = mesh.geometry.index !== null;
    this.shells[which] = data;
    this.redraw();
  }

  /** @param {import('./blocks.js').PiecesData | null} data */
  setPieces(data) {
    this.pieces.load(data);
    this.redraw();
  }

  /** Draw the boxes that hold something on the part. @param {import('./cells.js').Cells | null} cells */
  showCells(cells) {
    this.cells.geometry.dispose();
    this.cells.geometry = new THREE.BufferGeometry();
    this.cells.visible = Boolean(cells && this.part);
    if (cells && this.part) {
      this.cells.geometry.setAttribute('position', new THREE.Float32BufferAttribute(boxLines(cells), 3));
      this.cells.matrix.copy(this.part.mesh.matrix);
    }
    this.redraw();
  }

  /** Draw a plane through the part. @param {number[] | null} normal @param {number} [offset]  mm along it */
  showPlane(normal, offset = 0) {
    this.cutPlane.visible = false;
    if (normal && this.part) {
      this.part.geometry.computeBoundingBox();
      this.cutPlane.lie(this.part.geometry.boundingBox, normal, offset);
      this.part.mesh.add(this.cutPlane);
    }
    this.redraw();
  }

  /**
   * Draw what of the part is kept whole.
   * @param {number[][]} boxes  of each its lowest and highest corner, or all corners round it
   */
  showKept(boxes) {
    for (const old of this.keptBoxes.splice(0)) {
      old.removeFromParent();
      old.geometry.dispose();
    }
    for (const box of this.part ? boxes : []) {
      const corners = Array.from({ length: box.length / 3 }, (_, k) => new THREE.Vector3().fromArray(box, 3 * k));
      const drawn = corners.length === 2 ? new THREE.Box3Helper(new THREE.Box3(corners[0], corners[1]), KEPT)
        : new THREE.LineSegments(new THREE.EdgesGeometry(new ConvexGeometry(corners), 12), new THREE.LineBasicMaterial({ color: KEPT }));
      this.part.mesh.add(drawn);
      this.keptBoxes.push(drawn);
    }
    this.redraw();
  }

  /** Draw the pieces apart. @param {number} share  0 together, 1 all the way  @param {boolean} stepwise */
  pull(share, stepwise) {
    this.pieces.pull(share, stepwise);
    this.redraw();
  }

  /** Show the pieces instead of the part. @param {boolean} shown */
  showPieces(shown) {
    this.pieces.visible = shown;
    if (this.part) this.part.mesh.visible = !shown;
    this.supports.visible = !shown && this.supports.geometry.index !== null;
    this.footing.visible = !shown && this.footing.geometry.index !== null;
    this.redraw();
  }

  /** Take supports out of the way of what is looked at or painted. @param {'shown' | 'faint' | 'hidden'} how */
  dimSupports(how) {
    const { material } = this.supports;
    this.supports.visible = how !== 'hidden' && !this.pieces.visible && this.supports.geometry.index !== null;
    if (material.transparent !== (how === 'faint')) {
      material.transparent = how === 'faint';
      material.opacity = how === 'faint' ? 0.3 : 1;
      material.depthWrite = how !== 'faint';
      material.needsUpdate = true;
    }
    this.redraw();
  }

  // Layers --------------------------------------------------------------------------

  /**
   * Cut everything at a level and draw what the machine draws there.
   * @param {{z: number, part: number, support: number, footing: number} | null} level  null shows all
   * @param {{part: any, support: any, footing: any}} layers  LayersData or null each
   */
  cutAt(level, layers) {
    this.cut.constant = level ? level.z : 1e6;
    for (const name of ['part', 'support', 'footing']) {
      this.caps[name].show(level ? layers[name] : null, level ? level[name] : -1, level ? level.z : 0);
    }
    this.beads.show(this.beads.on && level ? level.z : null);
    this.redraw();
  }

  /** The way to the eye across the plate, to 15 degrees. @returns {number}  degrees, from the front to the right */
  get eyeFrom() {
    _point.subVectors(this.camera.position, this.controls.target);
    return Math.round(((Math.atan2(_point.x, -_point.y) * 180) / Math.PI) / 15) * 15;
  }

  /**
   * Cut everything open by an upright plane; what is nearer to the eye is gone.
   * @param {{from: number, deep: number} | null} cut  where the eye is, degrees from the front to the right, and the share of the part that is cut away
   * @param {import('./bead-section.js').Ground} ground  the layers of the part
   * @returns {number}  how deep that is, mm from where the part begins
   */
  cutOpen(cut, ground) {
    this.side.constant = 1e6;
    let side = null, half = 0;
    if (cut) {
      const turn = (cut.from * Math.PI) / 180;
      const away = [Math.sin(turn), -Math.cos(turn)];
      half = 0.5 * (Math.abs(away[0]) * this.size[0] + Math.abs(away[1]) * this.size[1]);
      side = { away, offset: away[0] * this.at[0] + away[1] * this.at[1] + half * (1 - 2 * cut.deep) };
      this.side.setComponents(-away[0], -away[1], 0, side.offset);
    }
    this.beads.open(side, ground);
    this.redraw();
    return cut ? 2 * half * cut.deep : 0;
  }

  // Labels ------------------------------------------------------------------------------

  /** @param {import('./labels.js').Label[]} labels */
  setTags(labels) {
    this.labels.set(labels);
    this.redraw();
  }

  // Picking -----------------------------------------------------------------------------

  /**
   * Start or end picking a face.
   * @param {((normal: number[], at: number[]) => void) | null} chosen  told the place too, in the frame of the part @param {(normal: THREE.Vector3 | null) => void} [pointed]  told every face under the pointer
   */
  setPicking(chosen, pointed) {
    this.chosen = chosen;
    this.pointed = pointed;
    this.canvas.classList.toggle('picking', Boolean(chosen));
    if (!chosen) this.part?.unpick();
    this.redraw();
  }

  /** The ray of the eye through a place of the page. @param {{clientX: number, clientY: number}} event */
  ray(event) {
    const box = this.canvas.getBoundingClientRect();
    _pointer.set(((event.clientX - box.left) / box.width) * 2 - 1, 1 - ((event.clientY - box.top) / box.height) * 2);
    _ray.setFromCamera(_pointer, this.camera);
    return _ray;
  }

  #hover(event) {
    if (!this.chosen || !this.part || event.buttons) return;
    const normal = this.part.pick(this.ray(event));
    this.pointed?.(normal);
    this.redraw();
  }

  #click(event) {
    if (!this.chosen || !this.part) return;
    // The end of a drag is not a click on a face.
    if (this.pressed && Math.hypot(event.clientX - this.pressed[0], event.clientY - this.pressed[1]) > 4) return;
    const normal = this.part.pick(this.ray(event));
    if (normal) this.chosen(normal.toArray(), this.part.picked.toArray());
  }

  dispose() {
    this.abort.abort();
    this.controls.dispose();
    this.part?.dispose();
    for (const cap of Object.values(this.caps)) cap.dispose();
    this.renderer.dispose();
  }
}

const _point = new THREE.Vector3();
const _pointer = new THREE.Vector2();
const _ray = new THREE.Raycaster();
