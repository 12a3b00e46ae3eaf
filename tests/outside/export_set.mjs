// A set as three's own exporter writes it: a cart that drives, a wheel that turns below it, a shed, a flag that waves by morph targets,
// and a camera. Prints where three itself has every point on every frame.
import { writeFileSync } from "node:fs";
import * as THREE from "three";
import { GLTFExporter } from "three/examples/jsm/exporters/GLTFExporter.js";

globalThis.FileReader = class { // the exporter reads its own blobs as a browser would
  async readAsArrayBuffer(blob) { this.result = await blob.arrayBuffer(); this.onloadend(); }
  async readAsDataURL(blob) { this.result = `data:${blob.type};base64,${Buffer.from(await blob.arrayBuffer()).toString("base64")}`; this.onloadend(); }
};

const FRAMES = 25, RATE = 24;
const scene = new THREE.Scene();
const grey = new THREE.MeshStandardMaterial({ color: 0x888888 });
const add = (parent, name, geometry, at) => {
  const mesh = new THREE.Mesh(geometry, grey);
  mesh.name = name;
  mesh.position.set(...at);
  parent.add(mesh);
  return mesh;
};
const cart = new THREE.Group();
cart.name = "cart";
scene.add(cart);
const body = add(cart, "body", new THREE.BoxGeometry(1.6, 0.6, 0.8), [0, 0.8, 0]);
const wheel = add(cart, "wheel", new THREE.CylinderGeometry(0.4, 0.4, 0.1, 12), [0.6, 0.4, 0.5]);
const shed = add(scene, "shed", new THREE.BoxGeometry(3, 2, 3), [4, 1, -5]);
shed.scale.set(1, 1.5, 1);
const cloth = new THREE.PlaneGeometry(1, 1, 2, 2);
cloth.morphAttributes.position = [new THREE.Float32BufferAttribute(Array.from(cloth.attributes.position.array, (v, i) => (i % 3 === 2 ? 0.3 : v)), 3)];
const flag = add(scene, "flag", cloth, [-3, 2, -3]);
flag.updateMorphTargets();
const camera = new THREE.PerspectiveCamera(40, 16 / 9, 0.1, 100);
camera.name = "shotcam";
scene.add(camera);

const times = Array.from({ length: FRAMES }, (_, i) => i / RATE);
const turned = (axis, angle) => new THREE.Quaternion().setFromAxisAngle(axis, angle);
const X = new THREE.Vector3(1, 0, 0), Y = new THREE.Vector3(0, 1, 0);
const tilt = turned(X, Math.PI / 2);
const poses = times.map((t, i) => ({
  cart: new THREE.Vector3(-2 + 3 * t, 0.1 * Math.sin(i / 3), 0),
  wheel: new THREE.Quaternion().multiplyQuaternions(tilt, turned(Y, 4 * t)),
  eye: new THREE.Vector3(0.5 * t, 1.7, 8 - t),
  look: turned(Y, 0.2 * t),
  wave: 0.5 + 0.5 * Math.sin(i / 2),
}));
const flat = (key) => poses.flatMap((p) => p[key].toArray());
const clip = new THREE.AnimationClip("shot", -1, [
  new THREE.VectorKeyframeTrack("cart.position", times, flat("cart")),
  new THREE.QuaternionKeyframeTrack("wheel.quaternion", times, flat("wheel")),
  new THREE.VectorKeyframeTrack("shotcam.position", times, flat("eye")),
  new THREE.QuaternionKeyframeTrack("shotcam.quaternion", times, flat("look")),
  new THREE.NumberKeyframeTrack("flag.morphTargetInfluences[0]", times, poses.map((p) => p.wave)),
]);

const points = { body: [], wheel: [], shed: [] }, views = [];
for (const pose of poses) {
  cart.position.copy(pose.cart); wheel.quaternion.copy(pose.wheel);
  camera.position.copy(pose.eye); camera.quaternion.copy(pose.look);
  scene.updateMatrixWorld(true);
  views.push(camera.matrixWorld.toArray());
  for (const mesh of [body, wheel, shed]) {
    const held = mesh.geometry.attributes.position;
    points[mesh.name].push(Array.from({ length: held.count }, (_, i) => new THREE.Vector3().fromBufferAttribute(held, i).applyMatrix4(mesh.matrixWorld).toArray()));
  }
}
const glb = await new GLTFExporter().parseAsync(scene, { binary: true, animations: [clip] });
writeFileSync(process.argv[2], Buffer.from(glb));
console.log(JSON.stringify({ frames: FRAMES, rate: RATE, fov: camera.fov, points, views }));
