"use strict";
(() => {
  const captures = JSON.parse(document.getElementById("timelines").textContent);
  const ROW = 46, TOP = 8, FOOT = 30, LEFT = 150, SNAP = 8;
  const ORDER = ["aside", "works", "sleeps", "waits", "runs"];
  const HEIGHT = { aside: 22, works: 16, sleeps: 6, waits: 11, runs: 22 };
  const WORDS = { aside: "put aside", works: "unit works", sleeps: "asleep", waits: "waits", runs: "runs" };

  // a stream of whole numbers: seven bits a byte, the lowest first
  const unpack = (text) => {
    const raw = atob(text), found = new Float64Array(raw.length);
    let count = 0, value = 0, scale = 1;
    for (let k = 0; k < raw.length; k++) {
      const byte = raw.charCodeAt(k);
      value += (byte & 127) * scale;
      if (byte & 128) scale *= 128;
      else { found[count++] = value; value = 0; scale = 1; }
    }
    return found.slice(0, count);
  };
  const summed = (numbers) => { for (let k = 1; k < numbers.length; k++) numbers[k] += numbers[k - 1]; return numbers; };
  const bars = (pair) => {
    const begin = summed(unpack(pair[0])), end = unpack(pair[1]);
    for (let k = 0; k < end.length; k++) end[k] += begin[k];
    return { begin, end };
  };
  // the first place whose value is at least `value`
  const place = (numbers, value) => {
    let low = 0, high = numbers.length;
    while (low < high) { const middle = (low + high) >> 1; if (numbers[middle] < value) low = middle + 1; else high = middle; }
    return low;
  };
  const scaled = (seconds, digits) => {
    const size = Math.abs(seconds);
    const [scale, unit] = size >= 1 ? [1, "s"] : size >= 1e-3 ? [1e3, "ms"] : size >= 1e-6 ? [1e6, "us"] : size >= 1e-9 ? [1e9, "ns"] : [1e12, "ps"];
    return size ? `${Number((seconds * scale).toPrecision(digits))} ${unit}` : "0 s";
  };

  const begin = (box) => {
    const data = captures[Number(box.dataset.capture)], canvas = box.querySelector("canvas");
    const [told, cursorsTold] = box.querySelectorAll(".told");
    const lanes = data.lanes.map((lane, number) => {
      const found = { ...lane, number, shown: true, bars: {}, marks: {}, thin: lane.thin ? bars(lane.thin) : null };
      for (const [state, pair] of Object.entries(lane.bars)) found.bars[state] = bars(pair);
      for (const [kind, text] of Object.entries(lane.marks)) found.marks[kind] = summed(unpack(text));
      found.levels = lane.levels ? { at: summed(unpack(lane.levels[0])), level: unpack(lane.levels[1]) } : null;
      return found;
    });
    if (lanes.some((lane) => lane.levels)) box.querySelector(".if-filled").hidden = false;
    if (data.thinned) box.querySelector(".if-thin").hidden = false;
    let from = 0, to = data.length, cursors = [null, null], turn = 0, queued = false, focus = null;
    const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
    const width = () => canvas.clientWidth - LEFT;
    const x = (time) => LEFT + (time - from) / (to - from) * width();
    const time = (px) => from + (px - LEFT) / width() * (to - from);
    const seconds = (ticks) => ticks * data.unit;
    const visible = () => lanes.filter((lane) => lane.shown);

    const stripes = (context, colour, ground, slope) => {
      const tile = document.createElement("canvas"); tile.width = tile.height = 6;
      const pen = tile.getContext("2d"); pen.fillStyle = ground; pen.fillRect(0, 0, 6, 6); pen.strokeStyle = colour;
      pen.beginPath(); for (const k of [-6, 0, 6]) { pen.moveTo(k, slope > 0 ? 6 : 0); pen.lineTo(k + 6, slope > 0 ? 0 : 6); } pen.stroke();
      return context.createPattern(tile, "repeat");
    };

    // each bar that can be told apart; where many share a pixel, each pixel once
    const eachBar = (found, least, most, draw) => {
      let k = Math.max(0, place(found.end, from));
      const last = place(found.begin, to), pixel = (to - from) / width();
      if (last - k < 2 * width()) { for (; k < last; k++) draw(found.begin[k], found.end[k]); return; }
      for (let at = from; at < to; at += pixel) {
        k = place(found.end, at);
        if (k >= found.end.length) return;
        if (found.begin[k] < at + pixel) draw(at, at + pixel);
        else at = found.begin[k] - pixel;
      }
    };
    const eachMark = (found, draw) => {
      const pixel = (to - from) / width(), last = place(found, to + 1);
      for (let k = place(found, from); k < last;) { draw(found[k]); k = Math.max(k + 1, place(found, found[k] + pixel)); }
    };

    const paint = () => {
      queued = false;
      const shown = visible(), high = TOP + shown.length * ROW + FOOT, ratio = window.devicePixelRatio || 1;
      canvas.style.height = `${high}px`; canvas.width = Math.max(1, canvas.clientWidth * ratio); canvas.height = high * ratio;
      const pen = canvas.getContext("2d"); pen.scale(ratio, ratio);
      const colours = {}; for (const name of ["ground", "ink", "soft", "line", "runs", "aside", "waits", "works", "sleeps", "limit"]) colours[name] = ink(name);
      const fill = { runs: colours.runs, works: colours.works, sleeps: colours.sleeps,
        waits: stripes(pen, colours.soft, colours.waits, 1), aside: stripes(pen, colours.soft, colours.aside, -1) };
      pen.font = "12px system-ui, sans-serif"; pen.textBaseline = "middle";
      drawAxis(pen, colours, shown.length);
      pen.save(); pen.beginPath(); pen.rect(LEFT, 0, width(), high); pen.clip();
      for (const hold of data.holds) {
        if (hold[1] < from || hold[0] > to) continue;
        pen.globalAlpha = 0.15; pen.fillStyle = colours.limit;
        shown.forEach((lane, row) => { if (hold[3].includes(lane.number)) pen.fillRect(x(hold[0]), TOP + row * ROW, Math.max(1, x(hold[1]) - x(hold[0])), ROW); });
        pen.globalAlpha = 1;
        shown.forEach((lane, row) => { if (lane.number === hold[2]) pen.fillRect(x(hold[0]), TOP + row * ROW + 6, Math.max(1, x(hold[1]) - x(hold[0])), 4); });
      }
      shown.forEach((lane, row) => drawLane(pen, colours, fill, lane, TOP + row * ROW + ROW / 2 + 4));
      cursors.forEach((at, k) => {
        if (at === null) return;
        pen.strokeStyle = colours.limit; pen.setLineDash(k ? [5, 3] : []); pen.beginPath(); pen.moveTo(x(at), 0); pen.lineTo(x(at), high - FOOT); pen.stroke(); pen.setLineDash([]);
        pen.fillStyle = colours.limit; pen.fillText("AB"[k], x(at) + 4, 8);
      });
      pen.restore();
      shown.forEach((lane, row) => {
        const middle = TOP + row * ROW + ROW / 2 + 2;
        pen.fillStyle = colours.ink; pen.fillText(cut(pen, lane.name), 2, middle - 7);
        pen.fillStyle = colours.soft; pen.fillText(cut(pen, lane.detail), 2, middle + 8);
      });
      box.dataset.from = from; box.dataset.to = to;
    };
    const cut = (pen, text) => {
      let shown = text;
      while (shown.length > 3 && pen.measureText(shown).width > LEFT - 8) shown = `${shown.slice(0, -2)}…`;
      return shown;
    };
    const drawAxis = (pen, colours, rows) => {
      const bottom = TOP + rows * ROW, wanted = (to - from) / Math.max(2, width() / 120);
      let step = 10 ** Math.floor(Math.log10(wanted * data.unit)) / data.unit;
      step *= [1, 2, 5, 10].find((times) => step * times >= wanted) || 10;
      const first = Math.ceil((from + data.begin / data.unit) / step) * step - data.begin / data.unit;
      pen.strokeStyle = colours.line; pen.fillStyle = colours.ink; pen.textAlign = "center";
      const digits = Math.max(4, Math.ceil(Math.log10(Math.abs(data.begin / data.unit + to) / step)) + 2);
      for (let at = first; at <= to; at += step) {
        pen.beginPath(); pen.moveTo(x(at), 0); pen.lineTo(x(at), bottom + 4); pen.stroke();
        pen.fillText(scaled(data.begin + seconds(at), digits), x(at), bottom + 16);
      }
      pen.textAlign = "left";
    };
    const drawLane = (pen, colours, fill, lane, middle) => {
      const block = (first, last, height) => {
        const left = x(Math.max(first, from)), right = x(Math.min(last, to));
        pen.fillRect(left, middle - height / 2, Math.max(1, right - left), height);
        if (right - left > 3) pen.strokeRect(left, middle - height / 2, right - left, height);
      };
      pen.strokeStyle = colours.ink; pen.lineWidth = 0.6;
      if (lane.thin) {
        pen.fillStyle = colours.runs; pen.globalAlpha = 0.35;
        eachBar(lane.thin, from, to, (first, last) => { const right = x(last); for (let px = x(Math.max(first, from)); px < Math.min(right, LEFT + width()); px += 4) pen.fillRect(px, middle - 8, 1, 16); });
        pen.globalAlpha = 1;
      }
      for (const state of ORDER) {
        if (!lane.bars[state]) continue;
        if (state === "sleeps") { // it is on top all the while, and not put aside
          pen.fillStyle = colours.ground;
          eachBar(lane.bars[state], from, to, (first, last) => { const left = x(Math.max(first, from)); pen.fillRect(left, middle - 12, x(Math.min(last, to)) - left, 24); });
        }
        pen.fillStyle = fill[state];
        eachBar(lane.bars[state], from, to, (first, last) => block(first, last, HEIGHT[state]));
      }
      if (lane.levels) {
        const { at, level } = lane.levels, floor = middle + 13, height = (many) => floor - 26 * many / lane.depth;
        let k = Math.max(0, place(at, from) - 1), last = at.length && at[k] <= from ? level[k] : 0;
        pen.beginPath(); pen.moveTo(LEFT, floor); pen.lineTo(LEFT, height(last));
        for (; k < at.length && at[k] <= to; k++) if (at[k] > from) { pen.lineTo(x(at[k]), height(last)); last = level[k]; pen.lineTo(x(at[k]), height(last)); }
        pen.lineTo(LEFT + width(), height(last)); pen.lineTo(LEFT + width(), floor); pen.closePath();
        pen.fillStyle = colours.works; pen.fill(); pen.stroke();
        pen.setLineDash([4, 3]); pen.beginPath(); pen.moveTo(LEFT, height(lane.depth)); pen.lineTo(LEFT + width(), height(lane.depth)); pen.stroke(); pen.setLineDash([]);
      }
      pen.lineWidth = 1;
      if (lane.marks.events) eachMark(lane.marks.events, (at) => {
        pen.fillStyle = pen.strokeStyle = colours.ink; pen.beginPath(); pen.moveTo(x(at) - 4, middle - 22); pen.lineTo(x(at) + 4, middle - 22); pen.lineTo(x(at), middle - 14); pen.closePath();
        if (lane.estimated) pen.stroke(); else pen.fill();
      });
      if (lane.marks.lost) eachMark(lane.marks.lost, (at) => {
        pen.strokeStyle = colours.limit; pen.lineWidth = 2; pen.beginPath(); pen.moveTo(x(at) - 5, middle - 5); pen.lineTo(x(at) + 5, middle + 5); pen.moveTo(x(at) + 5, middle - 5); pen.lineTo(x(at) - 5, middle + 5); pen.stroke(); pen.lineWidth = 1;
      });
    };

    const repaint = () => { if (!queued) { queued = true; requestAnimationFrame(paint); } };
    const show = (first, last) => {
      const least = Math.max(8, Math.ceil(data.resolution / data.unit)), length = Math.min(data.length, Math.max(least, last - first));
      from = Math.max(0, Math.min(first, data.length - length)); to = from + length; repaint();
    };
    const zoom = (by, at) => { const middle = at === undefined ? (from + to) / 2 : at; show(middle - (middle - from) * by, middle + (to - middle) * by); };
    const pan = (share) => { const by = (to - from) * share; show(from + by, to + by); };

    const edges = (lane) => [...Object.values(lane.bars).flatMap((found) => [found.begin, found.end]), ...Object.values(lane.marks)];
    const nearest = (lanesOf, at) => {
      let best = null;
      for (const lane of lanesOf) for (const numbers of edges(lane)) {
        const k = place(numbers, at);
        for (const other of [k - 1, k]) if (other >= 0 && other < numbers.length && (best === null || Math.abs(numbers[other] - at) < Math.abs(best - at))) best = numbers[other];
      }
      return best;
    };
    const laneAt = (y) => visible()[Math.floor((y - TOP) / ROW)];
    const tell = () => {
      const [a, b] = cursors, parts = [];
      cursors.forEach((at, k) => { if (at !== null) parts.push(`${"AB"[k]} at ${scaled(data.begin + seconds(at), 10)}`); });
      if (a !== null && b !== null) parts.push(`B − A = ${scaled(seconds(b - a), 8)} ± ${scaled(data.resolution, 3)}`);
      cursorsTold.textContent = parts.join(", ");
      box.dataset.apart = a !== null && b !== null ? seconds(b - a) : "";
      repaint();
    };
    const set = (which, at) => { cursors[which] = at; turn = 1 - which; focus = which; tell(); };
    const words = (lane, at) => {
      const found = [];
      for (const state of [...ORDER].reverse()) {
        const some = lane.bars[state]; if (!some) continue;
        const k = place(some.end, at);
        if (k < some.end.length && some.begin[k] <= at) {
          found.push(`${lane.thing} ${WORDS[state]} from ${scaled(data.begin + seconds(some.begin[k]), 10)} for ${scaled(seconds(some.end[k] - some.begin[k]), 6)}`);
          break;
        }
      }
      if (lane.levels) {
        const k = place(lane.levels.at, at + 1) - 1;
        found.push(`${lane.thing} holds ${k < 0 ? 0 : lane.levels.level[k]} of ${lane.depth}`);
      }
      const held = data.holds.find((hold) => hold[0] <= at && at <= hold[1] && (hold[3].includes(lane.number) || hold[2] === lane.number));
      if (held) found.push(held[2] === lane.number ? "it holds interrupts off" : `held off by ${held[4]}, which does so for ${scaled(seconds(held[1] - held[0]), 6)}`);
      else if (found.length && found[0].includes(" waits ")) {
        const top = lanes.find((other) => other !== lane && other.bars.runs && (() => { const k = place(other.bars.runs.end, at); return k < other.bars.runs.end.length && other.bars.runs.begin[k] <= at; })());
        if (top) found.push(`while ${top.thing} runs`);
      }
      return found.length ? found.join("; ") : `${lane.thing}: nothing at ${scaled(data.begin + seconds(at), 10)}`;
    };

    let drag = null;
    canvas.addEventListener("wheel", (event) => { event.preventDefault(); zoom(event.deltaY > 0 ? 1.25 : 0.8, time(event.offsetX)); }, { passive: false });
    canvas.addEventListener("pointerdown", (event) => { drag = { px: event.offsetX, from, to, moved: false }; canvas.setPointerCapture(event.pointerId); });
    canvas.addEventListener("pointermove", (event) => {
      if (drag) {
        if (Math.abs(event.offsetX - drag.px) > 3) drag.moved = true;
        if (drag.moved) { const by = (drag.px - event.offsetX) / width() * (drag.to - drag.from); show(drag.from + by, drag.to + by); }
        return;
      }
      const lane = laneAt(event.offsetY); told.textContent = lane && event.offsetX > LEFT ? words(lane, time(event.offsetX)) : "";
    });
    canvas.addEventListener("pointerup", (event) => {
      const clicked = drag && !drag.moved; drag = null;
      if (!clicked || event.offsetX < LEFT) return;
      const at = time(event.offsetX), lane = laneAt(event.offsetY), edge = nearest(lane ? [lane] : visible(), at);
      set(turn, edge !== null && Math.abs(x(edge) - event.offsetX) <= SNAP ? edge : Math.round(at));
    });
    const step = (direction) => {
      const which = focus === null ? 0 : focus, at = cursors[which] === null ? (from + to) / 2 : cursors[which];
      let best = null;
      for (const lane of visible()) for (const numbers of edges(lane)) {
        const k = direction > 0 ? place(numbers, at + 1) : place(numbers, at) - 1;
        if (k >= 0 && k < numbers.length && (best === null || Math.abs(numbers[k] - at) < Math.abs(best - at))) best = numbers[k];
      }
      if (best === null) return;
      const again = turn; set(which, best); turn = again;
      if (best < from || best > to) show(best - (to - from) / 2, best + (to - from) / 2);
    };
    const keys = {
      "+": () => zoom(0.5), "=": () => zoom(0.5), "-": () => zoom(2), ArrowLeft: () => pan(-0.25), ArrowRight: () => pan(0.25),
      Home: () => show(0, to - from), End: () => show(data.length - (to - from), data.length), "0": () => show(0, data.length),
      a: () => set(0, Math.round((from + to) / 2)), b: () => set(1, Math.round((from + to) / 2)), n: () => step(1), p: () => step(-1),
      Escape: () => { cursors = [null, null]; turn = 0; focus = null; tell(); },
    };
    canvas.addEventListener("keydown", (event) => { const act = keys[event.key]; if (act && !event.ctrlKey && !event.metaKey) { event.preventDefault(); act(); told.textContent = `from ${scaled(data.begin + seconds(from), 8)} to ${scaled(data.begin + seconds(to), 8)}`; } });
    const buttons = { whole: () => show(0, data.length), in: () => zoom(0.5), out: () => zoom(2), left: () => pan(-0.5), right: () => pan(0.5), clear: keys.Escape };
    box.addEventListener("click", (event) => {
      const button = event.target.closest("button"); if (!button) return;
      if (button.dataset.do) buttons[button.dataset.do]();
      if (button.dataset.moment) { const moment = data.moments[Number(button.dataset.moment)]; show(moment.begin, moment.end); told.textContent = moment.title; }
    });
    const list = box.querySelector(".lanes");
    const listLanes = () => {
      list.textContent = "";
      lanes.forEach((lane, k) => {
        const item = document.createElement("li"), label = document.createElement("label"), check = document.createElement("input");
        check.type = "checkbox"; check.checked = lane.shown; check.addEventListener("change", () => { lane.shown = check.checked; repaint(); });
        label.append(check, ` ${lane.thing} `); item.append(label);
        for (const [word, by] of [["↑", -1], ["↓", 1]]) {
          const button = document.createElement("button"); button.type = "button"; button.textContent = word; button.setAttribute("aria-label", `move ${lane.thing} ${by < 0 ? "up" : "down"}`);
          button.addEventListener("click", (event) => { event.stopPropagation(); const other = k + by; if (other < 0 || other >= lanes.length) return; [lanes[k], lanes[other]] = [lanes[other], lanes[k]]; listLanes(); repaint(); });
          item.append(button);
        }
        list.append(item);
      });
    };
    listLanes();
    window.addEventListener("resize", repaint);
    window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", repaint);
    if (data.moments.length) show(data.moments[0].begin, data.moments[0].end);
    paint();
  };
  document.querySelectorAll(".timeline").forEach(begin);
  document.documentElement.dataset.ready = "yes";
})();
