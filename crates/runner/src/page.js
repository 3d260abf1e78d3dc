// Follows find.js, with `json` from outside. Answers one question about the page, waiting until the answer is yes or patience ends.
// Times are milliseconds since 1970, by the clock that the page's own timings use.
const ask = JSON.parse(json);
const now = () => performance.timeOrigin + performance.now();
// The first rung that leads somewhere. A lower one is taken only when the page has been quiet for a
// second: what the best rung leads to may be still to come.
const GRACE_MS = 1000;
const entry = () => performance.getEntriesByType('navigation')[0] || {};
function climb(ladder, atOnce) {
  const best = found(ladder[0]);
  if (best) return { el: best, rung: 0, grace: 0 };
  const ready = document.readyState === 'complete';
  const since = Math.max(ask.begun || 0, performance.timeOrigin + (entry().loadEventEnd || 0));
  if (!atOnce && (!ready || now() - since < GRACE_MS)) return null;
  for (let rung = 1; rung < ladder.length; rung++) {
    const el = found(ladder[rung]);
    if (el) return { el, rung, grace: atOnce ? 0 : Math.min(GRACE_MS, now() - since) };
  }
  return null;
}

const middle = (el) => {
  const box = el.getBoundingClientRect();
  return { x: Math.round(box.x + box.width / 2), y: Math.round(box.y + box.height / 2) };
};
// What is in view stays where it is: two things that are dragged onto each other must not chase.
const reach = (el) => {
  const box = el.getBoundingClientRect();
  const inView = box.top >= 0 && box.left >= 0 && box.bottom <= innerHeight && box.right <= innerWidth;
  if (!inView) el.scrollIntoView({ block: 'center', behavior: 'instant' });
  return middle(el);
};
function topmost(x, y) {
  let top = document.elementFromPoint(x, y);
  while (top && top.shadowRoot) {
    const inner = top.shadowRoot.elementFromPoint(x, y);
    if (!inner || inner === top) break;
    top = inner;
  }
  return top;
}
const isOn = (el) => el.checked === true || el.getAttribute('aria-checked') === 'true';

// What is done with an element once it is found; the answer goes back with its rung.
const WITH = {
  element: () => ({}),
  // What a person would press: something that has stopped moving, with nothing over it, in a document whose
  // scripts have run.
  reach: async (el) => {
    if (document.readyState === 'loading') return null;
    const before = reach(el);
    await new Promise((go) => { requestAnimationFrame(go); setTimeout(go, 60); });
    const place = middle(el);
    if (place.x !== before.x || place.y !== before.y || !el.isConnected) return null;
    const top = topmost(place.x, place.y);
    const own = !top || holds(el, top) || holds(top, el) || Array.from(el.labels || []).some((l) => holds(l, top));
    return own ? { ...place, on: isOn(el) } : null;
  },
  scroll: (el) => { reach(el); return {}; },
  keep: (el) => { globalThis.kept = el; return {}; },
  'select-all': (el) => {
    if (ask.hide) el.style.webkitTextSecurity = 'disc';
    el.focus();
    if (el.select) el.select();
    else if (el.isContentEditable) document.getSelection().selectAllChildren(el);
    return {};
  },
  choose: (el) => {
    const option = Array.from(el.options || []).find((o) => tidy(o.textContent) === tidy(ask.option));
    if (!option) return null;
    el.focus();
    el.value = option.value;
    el.dispatchEvent(new Event('input', { bubbles: true }));
    el.dispatchEvent(new Event('change', { bubbles: true }));
    return {};
  },
  'text-in': (el) => (tidy(shownText(el)).includes(tidy(ask.text)) ? {} : null),
  'value-is': (el) => (el.value === ask.value ? {} : null),
  'read-text': (el) => ({ value: tidy(shownText(el)) }),
  'read-value': (el) => ('value' in el ? { value: String(el.value) } : null),
  'read-attribute': (el) => (el.hasAttribute(ask.attribute) ? { value: el.getAttribute(ask.attribute) } : null),
};

async function answer() {
  if (WITH[ask.what]) {
    const hit = climb(ask.ladder, ask.at_once);
    const done = hit && await WITH[ask.what](hit.el);
    return done && { rung: hit.rung, grace: hit.grace, ...done };
  }
  switch (ask.what) {
    case 'gone':
      return ask.ladder.some((el) => found(el)) ? null : {};
    case 'count': {
      // The first rung that leads anywhere counts.
      const counts = ask.ladder.map((el) => candidates(el).filter(shown).length);
      const count = counts.find((c) => c > 0) || 0;
      return count >= ask.least && count <= ask.most ? { count } : null;
    }
    case 'shows-text':
      return document.body && tidy(shownText(document.body)).includes(tidy(ask.text)) ? {} : null;
    case 'no-text':
      return document.body && !tidy(shownText(document.body)).includes(tidy(ask.text)) ? {} : null;
    case 'address':
      return location.href.includes(ask.part) ? {} : null;
    case 'title':
      return document.title.includes(ask.part) ? {} : null;
    case 'timing': {
      const mark = performance.getEntriesByName(ask.name, 'mark').find((m) => performance.timeOrigin + m.startTime >= ask.since);
      return mark ? { at: performance.timeOrigin + mark.startTime } : null;
    }
    case 'to-end':
      scrollTo({ top: ask.top ? 0 : document.documentElement.scrollHeight, behavior: 'instant' });
      return {};
    // What is compared with what was accepted; `ladder` says what is left out.
    case 'text':
    case 'structure':
    case 'boxes': {
      const out = (ask.ladder || []).map((el) => candidates(el)).find((all) => all.length) || [];
      if (ask.what === 'boxes') {
        const boxes = out.map((el) => el.getBoundingClientRect()).map((b) => [b.left, b.top, b.right, b.bottom]);
        return { boxes, scale: devicePixelRatio };
      }
      const lines = [];
      const walk = (el, depth) => {
        if (out.includes(el) || UNSEEN.includes(el.tagName)) return;
        if (ask.what === 'structure') {
          const role = el.getAttribute('role'), type = el.getAttribute('type');
          lines.push(' '.repeat(depth) + el.localName + (role ? ` role ${role}` : '') + (type ? ` type ${type}` : ''));
        } else if (!shown(el) && el !== document.body && el.localName !== 'slot') return;
        for (const child of partsOf(el)) {
          if (child.nodeType === 1) walk(child, depth + 1);
          else if (child.nodeType === 3 && ask.what === 'text' && tidy(child.data)) lines.push(tidy(child.data));
        }
      };
      if (document.body) walk(document.body, 0);
      return { seen: lines.slice(0, 5000).join('\n') };
    }
    case 'about':
      return { address: location.href, title: document.title, body: document.body ? shownText(document.body) : '' };
    case 'loaded':
      return {};
    case 'painted':
      return performance.getEntriesByName('first-contentful-paint').length ? {} : null;
    case 'facts': {
      const seen = globalThis.seen || { lcp: 0, shifts: [], long: [], events: [] };
      const nav = entry();
      const fcp = performance.getEntriesByName('first-contentful-paint')[0];
      const touched = ['pointerdown', 'keydown'].some((t) => performance.eventCounts && performance.eventCounts.get(t) > 0);
      return {
        origin: performance.timeOrigin, lcp: seen.lcp, shifts: seen.shifts, long: seen.long, events: seen.events,
        touched, fcp: fcp ? fcp.startTime : 0, ttfb: nav.responseStart || 0, load: nav.loadEventEnd || 0,
      };
    }
  }
}

const until = now() + (ask.patience_ms || 0);
for (;;) {
  const old = ask.not_origin && Math.abs(performance.timeOrigin - ask.not_origin) < 0.5;
  const settled = !ask.loaded || document.readyState === 'complete';
  const hit = !old && settled ? await answer() : null;
  if (hit) {
    // The load event was over before anybody could ask whether it was.
    const loaded = entry().loadEventEnd;
    const at = ask.what === 'loaded' && loaded ? performance.timeOrigin + loaded : now();
    return JSON.stringify({ ok: true, at, origin: performance.timeOrigin, host: location.hostname, ...hit });
  }
  if (now() > until) return JSON.stringify({ ok: false, at: now(), origin: performance.timeOrigin, address: location.href });
  await new Promise((go) => {
    const watch = new MutationObserver(done);
    const timer = setTimeout(done, 30);
    function done() { watch.disconnect(); clearTimeout(timer); go(); }
    for (const root of roots(document)) watch.observe(root, { subtree: true, childList: true, attributes: true, characterData: true });
  });
}
