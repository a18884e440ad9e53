"use strict";
// Everything the page does: the map's zoom, the filters, and a page's inside.
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const byId = (id) => document.getElementById(id);
  const element = (name, attributes = {}, ...content) => {
    const made = document.createElement(name);
    for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
    made.append(...content);
    return made;
  };
  const pageLink = (path, text) => element("a", { href: "#page=" + encodeURI(path) }, text);

  // ---- the maps: each is as large as it likes, and its frame scrolls
  const map = (drawing) => {
    const room = drawing.parentElement;
    const natural = [drawing.width.baseVal.value, drawing.height.baseVal.value];
    let size = 1;
    // At first all levels are in view; names must stay readable.
    const SMALLEST = 0.6;
    const zoom = (factor, x = room.clientWidth / 2, y = room.clientHeight / 2) => {
      const before = size;
      const fits = Math.min(1, room.clientWidth / natural[0], room.clientHeight / natural[1]);
      size = factor ? Math.min(4, Math.max(0.1, size * factor)) : fits;
      drawing.setAttribute("width", natural[0] * size);
      drawing.setAttribute("height", natural[1] * size);
      room.scrollLeft = (room.scrollLeft + x) * (size / before) - x;
      room.scrollTop = (room.scrollTop + y) * (size / before) - y;
    };
    for (const button of document.querySelectorAll(`[data-map="${drawing.id}"] button`))
      button.addEventListener("click", () => zoom(Number(button.dataset.zoom)));
    room.addEventListener("wheel", (event) => {
      if (!event.ctrlKey) return;
      event.preventDefault();
      const box = room.getBoundingClientRect();
      zoom(event.deltaY > 0 ? 0.87 : 1.15, event.clientX - box.left, event.clientY - box.top);
    }, { passive: false });
    let held = null, dragged = false;
    drawing.addEventListener("pointerdown", (event) => { held = event; dragged = false; });
    drawing.addEventListener("pointermove", (event) => {
      if (!held || !event.buttons) return void (held = null);
      const [x, y] = [event.clientX - held.clientX, event.clientY - held.clientY];
      if (!dragged && Math.abs(x) + Math.abs(y) < 4) return;
      dragged = true;
      room.scrollLeft -= x;
      room.scrollTop -= y;
      held = event;
    });
    drawing.addEventListener("dragstart", (event) => event.preventDefault());
    drawing.addEventListener("click", (event) => { if (dragged) event.preventDefault(); }, true);
    zoom(Math.max(SMALLEST, Math.min(1, room.clientWidth / natural[0])), 0, 0);
    const light = (file, on) => {
      for (const use of drawing.querySelectorAll("path.use"))
        if (use.dataset.from === file || use.dataset.to === file) use.classList.toggle("lit", on);
    };
    for (const node of drawing.querySelectorAll("a")) {
      for (const event of ["pointerenter", "focus"]) node.addEventListener(event, () => light(node.dataset.file, true));
      for (const event of ["pointerleave", "blur"]) node.addEventListener(event, () => light(node.dataset.file, false));
    }
  };
  document.querySelectorAll(".map svg").forEach(map);

  // ---- blocks by pages
  const ROWS = 200;
  const words = (cell, levels) => {
    const [given, level, line, inherits] = cell;
    if (level === undefined) return given;
    return `${given}: ${levels[level]}, line ${line}` + (inherits ? ", inherits" : "");
  };
  let shown = ROWS;
  const filled = (table) => {
    const page = byId("block-page").value.toLowerCase(), name = byId("block-name").value, state = byId("block-state").value;
    const columns = table.blocks.map((block, at) => [block, at]).filter(([block]) => !name || block === name);
    const fits = (row) => (!page || row[0].toLowerCase().includes(page)) &&
      (!name && !state || columns.some(([, at]) => row[2][at] && (!state || row[2][at][0] === state)));
    const rows = table.rows.filter(fits);
    const head = element("tr", {}, element("th", { scope: "col" }, "page"));
    for (const [block] of columns) head.append(element("th", { scope: "col" }, block));
    const body = element("tbody");
    for (const [path, levels, cells] of rows.slice(0, shown)) {
      const line = element("tr", {}, element("th", { scope: "row" }, pageLink(path, path)));
      for (const [block, at] of columns) {
        const cell = cells[at];
        const made = element("td");
        if (cell) {
          const text = words(cell, levels);
          made.append(element("span", { class: "cell " + cell[0], role: "img", "aria-label": text, title: `${block}: ${text}` }, data.signs[cell[0]]));
          if (state && cell[0] === state) made.className = "wanted";
        }
        line.append(made);
      }
      body.append(line);
    }
    byId("matrix").replaceChildren(element("thead", {}, head), body);
    byId("more-rows").hidden = rows.length <= shown;
    byId("block-count").textContent = `${rows.length} of ${table.rows.length} pages` + (rows.length > shown ? `, the first ${shown} shown` : "");
  };
  if (data.tables.length) {
    const current = () => data.tables[Number(byId("table").value)];
    const names = () => {
      const options = current().blocks.map((block) => element("option", {}, block));
      byId("block-name").replaceChildren(element("option", { value: "" }, "any"), ...options);
    };
    const again = () => { shown = ROWS; filled(current()); };
    byId("table").addEventListener("change", () => { names(); again(); });
    for (const id of ["block-page", "block-name", "block-state"]) byId(id).addEventListener("input", again);
    document.querySelector("#blocks form").addEventListener("submit", (event) => event.preventDefault());
    byId("more-rows").addEventListener("click", () => { shown += ROWS; filled(current()); });
    names();
    again();
  }

  // ---- a page's inside
  const sites = Object.fromEntries(["before", "after"].filter((side) => data[side]).map((side) => {
    const { files, pages } = data[side];
    const at = new Map(files.map(([path], index) => [path, index]));
    return [side, { files, at, pages: new Map(pages.map((page) => [files[page[0]][0], page])), texts: new Map() }];
  }));
  const text = (site, file) => {
    if (!site.texts.has(file)) site.texts.set(file, site.files[file][2].map((line) => data.lines[line]).join(""));
    return site.texts.get(file);
  };
  const starts = (source) => {
    const found = [0];
    for (let at = source.indexOf("\n"); at >= 0; at = source.indexOf("\n", at + 1)) found.push(at + 1);
    return found;
  };
  const lineAt = (known, offset) => {
    let [low, high] = [0, known.length];
    while (high - low > 1) {
      const middle = (low + high) >> 1;
      if (known[middle] <= offset) low = middle; else high = middle;
    }
    return low + 1;
  };
  // The pieces of a file put together; a file that is no page is its own only piece.
  const pieces = (site, path) => {
    const page = site.pages.get(path);
    if (!page) {
      const file = site.at.get(path);
      return file === undefined ? [] : [{ file, start: 0, length: text(site, file).length, passage: 0, block: 0, note: 0, level: 0 }];
    }
    const found = [];
    for (let at = 0; at < page[2].length; at += 6) {
      const [file, start, length, passage, block, note] = page[2].slice(at, at + 6);
      found.push({ file, start, length, passage, block, note, level: page[1].indexOf(file) });
    }
    return found;
  };
  const written = (site, { file, start, length, note }) => (note ? data.lines[note - 1] : text(site, file).slice(start, start + length));
  const flat = (site, path) => pieces(site, path).map((piece) => written(site, piece)).join("");
  const colour = (piece) => (piece.level < 0 ? "part" : "l" + Math.min(piece.level, 5));
  const PASSAGES = ["", "", ", included", ", the body", ", by a directory rule"];
  const LINES = 1500;
  const sourceLines = (site, path, most) => {
    const rows = document.createDocumentFragment();
    const known = new Map();
    const alone = !site.pages.has(path) || site.pages.get(path)[1].length < 2;
    let number = 0, last = "", row = null, code = null;
    const open = () => {
      number += 1;
      code = element("span", { class: "t" });
      row = element("div", {}, element("i", {}, String(number)), element("b"), code);
      rows.append(row);
    };
    for (const piece of pieces(site, path)) {
      const source = text(site, piece.file);
      if (!known.has(piece.file)) known.set(piece.file, starts(source));
      const file = site.files[piece.file][0];
      let at = piece.start;
      for (const part of written(site, piece).split(/(?<=\n)/)) {
        if (!row) { if (number >= most) return [rows, true]; open(); }
        const line = lineAt(known.get(piece.file), at);
        const origin = file + (piece.block ? " · " + data.names[piece.block - 1] : "");
        if (part.trim() && !row.dataset.origin) {
          row.dataset.origin = origin;
          if (origin !== last) row.children[1].textContent = `${file}:${line}`;
          last = origin;
        }
        const way = piece.block ? `, block ${data.names[piece.block - 1]}` : PASSAGES[piece.passage];
        code.append(element("span", { class: alone && piece.level === 0 ? "" : colour(piece), title: `${file}:${line}${way}` }, part.replace(/\n$/, "")));
        if (!piece.note) at += part.length;
        if (part.endsWith("\n")) row = null;
      }
    }
    return [rows, false];
  };

  // What is written in a template need not be a URL, or one of this site.
  const resolved = (href, path) => {
    try {
      const url = new URL(href, "http://site/" + path);
      return url.host === "site" ? decodeURI(url.pathname) : "";
    } catch { return ""; }
  };
  // Style sheets of the site stand in the place of the links to them; nothing is loaded.
  const preview = (site, path) => {
    const parsed = new DOMParser().parseFromString(flat(site, path), "text/html");
    for (const link of parsed.querySelectorAll('link[rel~="stylesheet"][href]')) {
      const there = resolved(link.getAttribute("href"), path);
      const style = there && (data.styles.find(([known]) => "/" + known === there) || data.styles.find(([known]) => ("/" + known).endsWith(there)));
      if (style) link.replaceWith(element("style", {}, style[1])); else link.remove();
    }
    for (const active of parsed.querySelectorAll("script, iframe, object, embed, base, meta[http-equiv], link")) active.remove();
    const unloaded = (rules) => rules.replace(/@import[^;]*;?/g, "").replace(/url\((?!["']?data:)[^)]*\)/g, "none");
    for (const style of parsed.querySelectorAll("style")) style.textContent = unloaded(style.textContent);
    for (const styled of parsed.querySelectorAll("[style]")) styled.setAttribute("style", unloaded(styled.getAttribute("style")));
    // A picture is shown by what it says.
    for (const loading of parsed.querySelectorAll("[src], [srcset], [poster], [background], image, use"))
      for (const name of ["src", "srcset", "poster", "background", "href", "xlink:href"])
        if (!(loading.getAttribute(name) || "").startsWith("data:")) loading.removeAttribute(name);
    return "<!DOCTYPE html>" + parsed.documentElement.outerHTML;
  };
  const givers = (path, proposed) => {
    for (const table of data.tables.filter((table) => table.proposed === proposed)) {
      const row = table.rows.find((row) => row[0] === path);
      if (row) return { blocks: table.blocks, levels: row[1], cells: row[2] };
    }
    return null;
  };
  const chainOf = (site, path) => {
    const page = site.pages.get(path);
    const list = element("ol", { class: "chain", "aria-label": "Override chain" });
    (page ? page[1] : []).forEach((file, at) => {
      const level = site.files[file][0];
      list.append(element("li", {}, at ? "→ " : "", element("span", { class: "chip l" + Math.min(at, 5) }, pageLink(level, level))));
    });
    return page && page[1].length > 1 ? list : "";
  };
  const blocksOf = (path, proposed) => {
    const told = givers(path, proposed);
    if (!told) return [];
    const body = element("tbody");
    told.blocks.forEach((block, at) => {
      const cell = told.cells[at];
      if (!cell) return;
      const definers = [];
      for (let next = 1; next < cell.length; next += 3) definers.push(`${told.levels[cell[next]]}:${cell[next + 1]}`);
      const [winner = "nowhere", ...others] = definers;
      const story = others.length ? element("div", { class: "faint" }, (cell[3] ? "inherits " : "replaces ") + others.join(", ")) : "";
      body.append(element("tr", {}, element("th", { scope: "row" }, block),
        element("td", {}, element("span", { class: "cell " + cell[0], role: "img", "aria-label": cell[0], title: cell[0] }, data.signs[cell[0]])),
        element("td", {}, winner, story)));
    });
    return [element("h4", {}, "Where each block is set"), element("table", { class: "giving" }, body)];
  };
  let open = null;
  const side = () => document.querySelector('input[name="side"]:checked').value;
  // The site that is looked at, or the one of the two that has the file.
  const siteOf = (path) => [sites[side()], sites.before, sites.after].find((site) => site && site.at.has(path));
  const frame = (site) => {
    byId("page-frame").srcdoc = site.pages.has(open) ? preview(site, open) : "";
    const proven = sites.after && sites.after.pages.get(open);
    byId("page-proof").textContent = !sites.after ? "There is no proposal." : proven && proven[3]
      ? { bytes: "Verified: byte-identical before and after.", blanks: "Verified: identical except for insignificant whitespace.", dom: "Verified: the same tree in an HTML parser." }[proven[3]]
      : "The proposal does not change this page.";
  };
  const show = (path, most = LINES) => {
    open = path;
    const site = siteOf(path);
    if (!site) return;
    byId("page-name").textContent = path;
    byId("page-chain").replaceChildren(chainOf(site, path));
    byId("page-blocks").replaceChildren(...blocksOf(path, site === sites.after));
    const [rows, cut] = sourceLines(site, path, most);
    byId("page-source").replaceChildren(rows);
    byId("page-source").scrollTop = 0;
    if (cut) {
      const more = element("button", { type: "button" }, "Show all lines");
      more.addEventListener("click", () => show(path, Infinity));
      byId("page-source").append(more);
    }
    byId("page-preview").hidden = !site.pages.has(path);
    frame(site);
    for (const link of byId("page-list").querySelectorAll("a"))
      if (decodeURI(link.hash) === "#page=" + path) link.setAttribute("aria-current", "page"); else link.removeAttribute("aria-current");
  };
  const list = () => {
    const wanted = byId("page-search").value.toLowerCase(), SHOWN = 100;
    const found = sites.before.files.filter(([path]) => path.toLowerCase().includes(wanted));
    byId("page-count").textContent = `${found.length} of ${sites.before.files.length} files` + (found.length > SHOWN ? `, the first ${SHOWN} shown` : "");
    byId("page-list").replaceChildren(...found.slice(0, SHOWN).map(([path, role]) =>
      element("li", {}, element("a", { href: "#page=" + encodeURI(path), ...(path === open ? { "aria-current": "page" } : {}) }, path, role === "page" ? "" : ` (${role})`))));
  };
  const asked = () => {
    try { return location.hash.startsWith("#page=") ? decodeURI(location.hash.slice(6)) : ""; } catch { return ""; }
  };
  const follow = () => {
    const path = asked();
    if (!path) return;
    show(path);
    byId("inside").scrollIntoView();
    byId("page-name").focus({ preventScroll: true });
  };
  if (byId("page-list")) {
    byId("page-search").addEventListener("input", list);
    byId("page-side").addEventListener("change", () => show(open));
    byId("page-side").hidden = !sites.after;
    list();
    // A page with a long chain tells most.
    const deepest = [...sites.before.pages.values()].reduce((best, page) => (best && best[1].length >= page[1].length ? best : page), null);
    if (deepest && !asked()) show(sites.before.files[deepest[0]][0]);
    addEventListener("hashchange", follow);
    follow();
  }

  // ---- findings
  for (const box of document.querySelectorAll("#severities input"))
    box.addEventListener("change", () => {
      for (const item of document.querySelectorAll(".findings > li." + box.value)) item.hidden = !box.checked;
    });
})();
