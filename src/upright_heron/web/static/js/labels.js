import * as THREE from 'three';

/** @typedef {{text: string, at: any, kind?: string, body?: THREE.Object3D}} Label  a small label at a place, mm */

const _point = new THREE.Vector3();

/** Small labels over the view, each at a place in it. */
export class Labels {
  /** @param {HTMLElement} element  what they lie in */
  constructor(element) {
    this.element = element;
    /** @type {(Label & {element: HTMLElement, wide: number, tall: number})[]} */
    this.shown = [];
  }

  /** @param {Label[]} labels */
  set(labels) {
    this.element.replaceChildren();
    this.shown = labels.map((label) => {
      const element = document.createElement('span');
      element.textContent = label.text;
      if (label.kind) element.className = label.kind;
      this.element.append(element);
      return { ...label, element, wide: 0, tall: 0 };
    });
    // Measured together: each by itself would lay the page out anew.
    for (const label of this.shown) [label.wide, label.tall] = [label.element.offsetWidth, label.element.offsetHeight];
  }

  /**
   * Put each just below its place, or below the labels that are there already.
   * @param {THREE.Camera} camera @param {number} top  what lies higher is cut away, mm @param {number} w @param {number} h  of the view
   */
  place(camera, top, w, h) {
    const placed = [];
    for (const label of this.shown) {
      _point.fromArray(label.at.isVector3 ? label.at.toArray() : label.at);
      if (label.body) _point.add(label.body.position);
      const hidden = _point.z > top + 1e-6;
      _point.project(camera);
      label.element.hidden = hidden || _point.z > 1;
      if (label.element.hidden) continue;
      const left = ((_point.x + 1) / 2) * w - label.wide / 2;
      let down = ((1 - _point.y) / 2) * h + label.tall / 4;
      const covers = (other) => left < other.left + other.wide && other.left < left + label.wide && down < other.down + other.tall && other.down < down + label.tall;
      for (let other = placed.find(covers); other; other = placed.find(covers)) down = other.down + other.tall;
      placed.push({ left, down, wide: label.wide, tall: label.tall + 1 });
      label.element.style.transform = `translate(${left}px, ${down}px)`;
    }
  }
}
