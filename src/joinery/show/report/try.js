"use strict";
(function () {
  const svgNames = "http://www.w3.org/2000/svg";
  const shown = (value) => {
    if (!Number.isFinite(value)) return value === Infinity ? "∞" : value === -Infinity ? "−∞" : "–";
    const text = Math.abs(value) >= 1e6 || (value !== 0 && Math.abs(value) < 1e-3)
      ? value.toExponential(3) : String(Number(value.toPrecision(4)));
    return text.replace("-", "−");
  };
  function setUp(form) {
    const about = JSON.parse(form.dataset.about);
    const functions = joineryTries[about.fit];
    const fields = about.columns.map((column, i) => ({
      column, field: document.getElementById(form.id + "-" + i),
      slider: document.getElementById(form.id + "-" + i + "-s"),
    }));
    const answer = form.querySelector("output");
    const bar = form.querySelector("svg");
    const remark = form.querySelector(".remark");
    const marks = [...document.querySelectorAll("figure[data-axes]")]
      .filter((figure) => JSON.parse(figure.dataset.axes).fit === about.fit)
      .map((figure) => {
        const mark = document.createElementNS(svgNames, "circle");
        mark.setAttribute("r", "5"); mark.setAttribute("class", "try-mark");
        figure.querySelector("svg").append(mark);
        return { mark, axes: JSON.parse(figure.dataset.axes) };
      });
    const valueOf = ({ column, field }) =>
      column.kind === "flag" ? field.value === "yes" : field.value;
    function numberOf(item) {
      if (item.column.kind === "date") return Date.parse(item.field.value) / 864e5;
      return item.field.value.trim() === "" ? NaN : Number(item.field.value);
    }
    function remarks() {
      const said = [];
      for (const item of fields) {
        const { column } = item;
        if (column.kind !== "number" && column.kind !== "date") continue;
        const value = numberOf(item);
        if (Number.isNaN(value)) said.push(column.words + " has no value");
        else if (column.low !== null && (value < column.low || value > column.high))
          said.push(column.words + " lies outside what was seen (" + column.from + " to " + column.to + ")");
      }
      return said;
    }
    function drawn(values) {
      const [low, high] = about.range;
      const every = [low, high, ...Object.values(values).filter(Number.isFinite)];
      const from = Math.min(...every), to = Math.max(...every);
      const x = (value) => 10 + 300 * (Math.max(from, Math.min(to, value)) - from) / (to - from || 1);
      for (const line of bar.querySelectorAll("line:not(.rule)")) {
        const a = values[line.dataset.part + "_lower"], b = values[line.dataset.part + "_upper"];
        const known = a !== undefined && !Number.isNaN(a) && !Number.isNaN(b);
        line.setAttribute("visibility", known ? "visible" : "hidden");
        if (known) { line.setAttribute("x1", x(a)); line.setAttribute("x2", x(b)); }
      }
      bar.querySelector("circle").setAttribute("cx", Number.isFinite(values.fitted) ? x(values.fitted) : -20);
      bar.querySelector(".low").textContent = shown(from);
      bar.querySelector(".high").textContent = shown(to);
    }
    function moved(values) {
      for (const { mark, axes } of marks) {
        const item = fields.find((one) => one.column.name === axes.against);
        const at = item ? numberOf(item) : NaN;
        const inside = at >= axes.x[0] && at <= axes.x[1] && values.fitted >= axes.y[0] && values.fitted <= axes.y[1];
        mark.setAttribute("visibility", inside ? "visible" : "hidden");
        if (!inside) continue;
        const along = (ends, place, value) => place[0] + (place[1] - place[0]) * (value - ends[0]) / (ends[1] - ends[0]);
        mark.setAttribute("cx", along(axes.x, axes.left, at));
        mark.setAttribute("cy", along(axes.y, axes.low, values.fitted));
      }
    }
    function say() {
      const values = {}, said = remarks();
      const given = fields.map(valueOf);
      try {
        for (const part of about.parts)
          values[part.name] = functions[part.name](...part.takes.map((i) => given[i]));
      } catch (reason) { said.push(reason.message); }
      const words = ["fitted " + shown(values.fitted === undefined ? NaN : values.fitted)];
      for (const pair of about.intervals)
        if (values[pair.lower] !== undefined)
          words.push(pair.words + " [" + shown(values[pair.lower]) + ", " + shown(values[pair.upper]) + "]");
      answer.textContent = words.join("; ");
      answer.dataset.values = JSON.stringify(values, (key, v) => typeof v === "number" ? String(v) : v);
      remark.textContent = said.join("; ");
      drawn(values); moved(values);
    }
    for (const { field, slider } of fields) {
      field.addEventListener("input", () => { if (slider) slider.value = field.value; say(); });
      if (slider) slider.addEventListener("input", () => { field.value = slider.value; say(); });
    }
    form.addEventListener("submit", (event) => event.preventDefault());
    say();
  }
  for (const form of document.querySelectorAll("form.try")) setUp(form);
})();
