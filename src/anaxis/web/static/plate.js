// The plate behind a view: its proxies fetched ahead and kept, and the lens's bend put on what is drawn over it.

const AHEAD = 48, AT_ONCE = 6, KEPT = 600;

export class Plate {
  constructor(shown, changed) {
    Object.assign(this, shown, { changed, opacity: 1, pictures: new Map(), waiting: new Set(), frame: null });
    this.there = new Set(shown.numbers);
    this.ordered = shown.numbers;
  }

  static async load(url, changed) {
    const answer = await fetch(url);
    if (!answer.ok) return null;
    const plate = new Plate(await answer.json(), changed);
    if (plate.coming) plate.wait(url);
    return plate;
  }

  // While a worker makes proxies, those that are new are looked for.
  async wait(url) {
    while (this.coming && !this.gone) {
      await new Promise((done) => { setTimeout(done, 1500); });
      const answer = await fetch(url);
      if (!answer.ok) return;
      const now = await answer.json();
      this.coming = now.coming;
      if (now.numbers.length !== this.ordered.length) { this.ordered = now.numbers; this.there = new Set(now.numbers); this.changed(); }
    }
  }

  // The picture of a camera's frame if it is here; whatever comes next is fetched meanwhile.
  at(frame) {
    const number = Math.round(frame) - this.offset;
    this.frame = number;
    this.fetchAhead();
    return this.pictures.get(number) || null;
  }

  state(frame) {
    const number = Math.round(frame) - this.offset;
    if (this.pictures.has(number)) return "";
    return this.there.has(number) ? "fetching" : this.ordered.length < this.all ? "no proxy yet" : "no image";
  }

  fetchAhead() {
    if (this.waiting.size >= AT_ONCE) return;
    for (let step = 0; step < AHEAD && this.waiting.size < AT_ONCE; step += 1) {
      const number = this.frame + step;
      if (!this.there.has(number) || this.pictures.has(number) || this.waiting.has(number)) continue;
      this.waiting.add(number);
      this.fetchOne(number);
    }
  }

  async fetchOne(number) {
    try {
      const answer = await fetch(`/plates/${this.id}/proxies/${number}.jpg?look=${encodeURIComponent(this.look)}`);
      if (answer.ok) this.pictures.set(number, await createImageBitmap(await answer.blob()));
      else this.there.delete(number);
    } catch { this.there.delete(number); } finally { this.waiting.delete(number); }
    if (this.pictures.size > KEPT) {
      const oldest = this.pictures.keys().next().value;
      this.pictures.get(oldest).close();
      this.pictures.delete(oldest);
    }
    if (number === this.frame) this.changed();
    this.fetchAhead();
  }

  draw(pen, box, frame) {
    const picture = this.at(frame);
    if (!picture) return;
    const [x, y, w, h] = this.rect_px;
    pen.save();
    pen.globalAlpha = this.opacity;
    pen.drawImage(picture, box.toX(x), box.toY(y), box.toX(x + w) - box.toX(x), box.toY(y + h) - box.toY(y));
    pen.restore();
  }
}

// Takes pixels of the pinhole picture to those of the plate as shot at a sample; null where there is no distortion.
export function bender(data, i) {
  if (!data.bend_px) return null;
  const [n, rows, columns] = data.shapes.bend_px, [x0, y0, x1, y1] = data.facts.bend_rect_px;
  const mesh = data.bend_px, base = (n > 1 ? i : 0) * rows * columns * 2;
  return (x, y, out) => {
    const u = ((x - x0) / (x1 - x0)) * (columns - 1), v = ((y - y0) / (y1 - y0)) * (rows - 1);
    const c = Math.floor(u), r = Math.floor(v);
    if (!(c >= 0 && r >= 0 && c < columns - 1 && r < rows - 1)) return false;
    const s = u - c, t = v - r, k = base + (r * columns + c) * 2, below = k + columns * 2;
    for (let axis = 0; axis < 2; axis += 1) {
      const top = mesh[k + axis] * (1 - s) + mesh[k + 2 + axis] * s, foot = mesh[below + axis] * (1 - s) + mesh[below + 2 + axis] * s;
      out[axis] = top * (1 - t) + foot * t;
    }
    return Number.isFinite(out[0]) && Number.isFinite(out[1]);
  };
}

// The bar below a view: which plate lies behind it, how strong, and whether what is drawn is bent like it.
export async function plateBar(bar, data, state, redraw) {
  if (!bar) return;
  const choose = bar.querySelector("[data-plate=which]"), opacity = bar.querySelector("[data-plate=opacity]");
  const bent = bar.querySelector("[data-plate=bent]"), said = bar.querySelector("[data-plate=said]");
  const key = `plate-${bar.dataset.shot}`;
  const tell = () => { if (said) said.textContent = state.plate ? state.plate.state(data.frames[state.index]) : ""; };
  const changed = () => { redraw(); tell(); };
  const show = async () => {
    if (state.plate) state.plate.gone = true;
    state.plate = choose?.value ? await Plate.load(`/plates/${choose.value}/shown?version=${bar.dataset.version}&camera=${bar.dataset.camera}`, changed) : null;
    if (state.plate) state.plate.opacity = Number(opacity.value);
    if (bent && state.plate) bent.checked = state.plate.kind === "as shot";
    state.bent = Boolean(bent?.checked);
    sessionStorage.setItem(key, choose ? choose.value : "");
    changed();
  };
  const kept = sessionStorage.getItem(key);
  if (choose && kept !== null && [...choose.options].some((o) => o.value === kept)) choose.value = kept;
  if (choose) choose.onchange = show;
  if (opacity) opacity.oninput = () => { if (state.plate) { state.plate.opacity = Number(opacity.value); redraw(); } };
  if (bent) bent.onchange = () => { state.bent = bent.checked; redraw(); };
  state.tellPlate = tell;
  await show();
}
