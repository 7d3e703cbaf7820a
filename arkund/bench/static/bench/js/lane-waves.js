// The waveforms of all lanes. They are drawn once when they arrive and then only stretched and
// shifted while the view moves; single samples are drawn as lines.
const HALF = 0.46; // of a lane's height that its loudest sample takes

export function laneWaves() {
  const sheet = document.createElement("canvas");
  let drawn = "", of = null;

  // One column a pixel, so that stretching is all that is left to do.
  function prepare(data, lanes, high) {
    const key = `${high} ${lanes.map((l) => l.hue).join()}`;
    if (of === data && drawn === key) return;
    of = data;
    drawn = key;
    sheet.width = data.columns;
    sheet.height = Math.max(1, Math.round(lanes.length * high));
    const pen = sheet.getContext("2d");
    lanes.forEach((lane, i) => {
      const middle = (i + 0.5) * high, scale = lane.scale * high * HALF;
      pen.fillStyle = lane.hue;
      pen.beginPath();
      for (let c = 0; c < data.columns; c += 1) {
        const at = 2 * (i * data.columns + c);
        const from = Math.max(middle - data.values[at + 1] * scale, i * high);
        const to = Math.min(middle - data.values[at] * scale, (i + 1) * high);
        pen.rect(c, from, 1, Math.max(to - from, 0.5));
      }
      pen.fill();
    });
  }

  function lines(pen, data, lanes, area, left, step) {
    lanes.forEach((lane, i) => {
      const middle = area.y + (i + 0.5) * area.high, scale = lane.scale * area.high * HALF;
      pen.strokeStyle = lane.hue;
      pen.lineWidth = 1.2;
      pen.beginPath();
      const first = Math.max(0, Math.floor((area.x - left) / step) - 1);
      const last = Math.min(data.columns, Math.ceil((area.x + area.width - left) / step) + 2);
      for (let c = first; c < last; c += 1) {
        const y = middle - data.values[2 * (i * data.columns + c)] * scale;
        if (c > first) pen.lineTo(left + c * step, y); else pen.moveTo(left + c * step, y);
      }
      pen.stroke();
    });
  }

  // `area` is where lanes stand: x, y, width, and how high each is; `x` takes frames to pixels.
  return function draw(pen, data, lanes, area, x) {
    const left = x(data.start), step = (x(data.stop) - left) / data.columns;
    pen.save();
    pen.beginPath();
    pen.rect(area.x, area.y, area.width, area.high * lanes.length);
    pen.clip();
    if ((data.stop - data.start) / data.columns < 1) lines(pen, data, lanes, area, left, step);
    else {
      prepare(data, lanes, area.high);
      const from = Math.max(0, Math.floor((area.x - left) / step));
      const to = Math.min(data.columns, Math.ceil((area.x + area.width - left) / step));
      if (to > from) {
        pen.imageSmoothingEnabled = step < 1;
        pen.drawImage(sheet, from, 0, to - from, sheet.height, left + from * step, area.y, (to - from) * step, area.high * lanes.length);
      }
    }
    pen.restore();
  };
}
