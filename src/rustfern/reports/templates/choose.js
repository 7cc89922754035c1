"use strict";
(() => {
  const get = (id) => document.getElementById(id);
  const cards = [...document.querySelectorAll(".card")];
  const sections = [...document.querySelectorAll("main > section")];
  const picks = [...document.querySelectorAll("input[name=pick]")];
  const home = new Map(cards.map((card) => [card, card.parentElement]));
  const text = new Map(cards.map((card) => [card, card.textContent.toLowerCase()]));
  const line = get("line"), begin = line.value.split(" NUMBER…")[0], rest = line.dataset.case;
  let heap = null;

  const amount = (bytes) => {
    for (const unit of ["bytes", "kB", "MB", "GB"]) {
      if (bytes < 1000) return (unit === "bytes" || bytes >= 100 ? Math.round(bytes) : bytes.toFixed(1)) + " " + unit;
      bytes /= 1000;
    }
    return bytes.toFixed(1) + " TB";
  };
  const joined = (values) => {
    const numbers = values.filter((each) => /^\d+$/.test(each)).map(Number).sort((a, b) => a - b);
    const out = [];
    for (let at = 0; at < numbers.length; ) {
      let end = at;
      while (numbers[end + 1] === numbers[end] + 1) end += 1;
      out.push(end - at > 1 ? numbers[at] + "-" + numbers[end] : numbers.slice(at, end + 1).join(" "));
      at = end + 1;
    }
    return [...out, ...values.filter((each) => !/^\d+$/.test(each))].join(" ");
  };
  const told = () => {
    const chosen = picks.filter((each) => each.checked);
    const size = chosen.reduce((sum, each) => sum + Number(each.dataset.size), 0);
    get("chosen").textContent = chosen.length
      ? chosen.length + " chosen, " + amount(size) + ". Type this line (DIR: a folder on another disk):"
      : "Nothing is chosen yet: tick what the person misses.";
    line.value = begin + " " + (chosen.length ? joined(chosen.map((each) => each.value)) : "NUMBER…") + " --to DIR" + rest;
  };
  const sift = () => {
    const words = get("words").value.toLowerCase().split(/\s+/).filter(Boolean);
    const kind = get("kind").value, whole = get("whole").checked, order = get("order").value;
    let shown = 0;
    for (const card of cards) {
      const fits = words.every((word) => text.get(card).includes(word)) && (!whole || card.dataset.state === "intact")
        && (!kind || home.get(card).parentElement.dataset.kind === kind);
      card.hidden = !fits;
      shown += fits;
    }
    if (heap) { heap.remove(); heap = null; }
    if (order) {
      const by = {
        written: (a, b) => (b.dataset.written > a.dataset.written) - (b.dataset.written < a.dataset.written),
        size: (a, b) => b.dataset.size - a.dataset.size,
        name: (a, b) => a.querySelector(".name").textContent.replace(/^\d+ /, "").localeCompare(b.querySelector(".name").textContent.replace(/^\d+ /, "")),
      }[order];
      heap = document.createElement("section");
      const list = document.createElement("ul");
      list.className = "cards";
      list.append(...[...cards].sort(by));
      heap.append(list);
      get("finds").prepend(heap);
    } else {
      for (const card of cards) home.get(card).append(card);
    }
    for (const each of sections) each.hidden = Boolean(order) || ![...each.querySelectorAll(".card")].some((card) => !card.hidden);
    get("nothing").hidden = shown > 0;
    get("count").textContent = shown + " of " + cards.length + " shown";
  };
  document.addEventListener("change", (event) => (event.target.name === "pick" ? told() : sift()));
  get("words").addEventListener("input", sift);
  get("sieve").addEventListener("submit", (event) => event.preventDefault());
  get("all").addEventListener("click", () => {
    for (const card of cards) if (!card.hidden) card.querySelector("input[name=pick]").checked = true;
    told();
  });
  get("none").addEventListener("click", () => { for (const each of picks) each.checked = false; told(); });
  line.addEventListener("focus", () => line.select());
  get("copy").addEventListener("click", async () => {
    line.select();
    try { await navigator.clipboard.writeText(line.value); } catch { document.execCommand("copy"); }
    get("copy").textContent = "Copied";
    setTimeout(() => { get("copy").textContent = "Copy line"; }, 1500);
  });
  sift();
  told();
})();
