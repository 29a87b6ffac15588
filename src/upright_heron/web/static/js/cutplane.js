import * as THREE from 'three';

const _normal = new THREE.Vector3();
const _turn = new THREE.Quaternion();
const _up = new THREE.Vector3(0, 0, 1);

/** A plane that is about to cut the part, drawn through it with its edge. */
export class CutPlane extends THREE.Group {
  constructor() {
    super();
    const sheet = new THREE.PlaneGeometry(1, 1);
    this.add(
      new THREE.Mesh(sheet, new THREE.MeshBasicMaterial({ color: '#2f5d73', transparent: true, opacity: 0.22, side: THREE.DoubleSide, depthWrite: false })),
      new THREE.LineSegments(new THREE.EdgesGeometry(sheet), new THREE.LineBasicMaterial({ color: '#2f5d73' })),
    );
    this.visible = false;
  }

  /**
   * Lie in a part that it is a child of.
   * @param {THREE.Box3} box  of the part @param {number[]} normal @param {number} offset  mm from its origin, along the normal
   */
  lie(box, normal, offset) {
    _normal.fromArray(normal).normalize();
    const middle = box.getCenter(this.position);
    middle.addScaledVector(_normal, offset - middle.dot(_normal));
    this.quaternion.copy(_turn.setFromUnitVectors(_up, _normal));
    this.scale.setScalar(1.08 * box.min.distanceTo(box.max));
    this.visible = true;
  }
}
