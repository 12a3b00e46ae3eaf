// Table cells that show numbers of the frame on the ruler: data-cell names an array and its column, or several.

// Fixed decimals, so that columns line up, and no minus before a zero.
const decimals = (value, digits) => value.toFixed(digits).replace(/^-(0\.0+)$/, "$1");

export function cells(board, data) {
  return [...board.querySelectorAll("[data-cell]")].map((cell) => {
    const sources = cell.dataset.cell.trim().split(" ").map((source) => {
      const [name, column] = source.split(".");
      return { array: data[name], width: data.shapes[name][1] || 1, offset: Number(column || 0) };
    });
    const unit = cell.dataset.unit.padEnd(2), scale = Number(cell.dataset.scale || 1), digits = Number(cell.dataset.digits || 4), join = cell.dataset.join || " × ";
    return (i) => {
      const values = sources.map((s) => s.array[i * s.width + s.offset] * scale);
      cell.textContent = values.every(Number.isFinite) ? `${values.map((v) => decimals(v, digits)).join(join)} ${unit}` : "–   ";
    };
  });
}
