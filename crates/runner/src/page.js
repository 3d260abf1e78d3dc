// Answers one question about the page, waiting until the answer is yes or patience ends.
// Times are milliseconds since 1970, by the clock that the page's own timings use.
async (json) => {
  const ask = JSON.parse(json);
  const now = () => performance.timeOrigin + performance.now();
  const tidy = (t) => (t || '').replace(/\s+/g, ' ').trim();
  const shown = (el) => {
    const box = el.getBoundingClientRect(), style = getComputedStyle(el);
    return box.width > 0 && box.height > 0 && style.visibility !== 'hidden' && style.display !== 'none';
  };

  const IMPLICIT = {
    article: 'article', button: 'button, input[type=submit], input[type=button]', checkbox: 'input[type=checkbox]',
    combobox: 'select', dialog: 'dialog', figure: 'figure', form: 'form', heading: 'h1, h2, h3, h4, h5, h6',
    img: 'img', link: 'a[href]', list: 'ul, ol', listitem: 'li', main: 'main', navigation: 'nav', option: 'option',
    radio: 'input[type=radio]', region: 'section', row: 'tr', searchbox: 'input[type=search]', table: 'table',
    textbox: 'input:not([type]), input[type=text], input[type=email], input[type=tel], input[type=password], textarea',
  };

  function labels(el) {
    return el.labels ? Array.from(el.labels).map((l) => tidy(l.textContent)) : [];
  }

  function name(el) {
    const by = (el.getAttribute('aria-labelledby') || '').split(/\s+/).filter(Boolean)
      .map((id) => document.getElementById(id)).filter(Boolean).map((e) => tidy(e.textContent)).join(' ');
    return by || tidy(el.getAttribute('aria-label')) || tidy(el.getAttribute('alt')) || labels(el)[0] ||
      tidy(el.textContent) || tidy(el.getAttribute('value')) || tidy(el.getAttribute('title'));
  }

  function candidates(el) {
    const all = (css) => Array.from(document.querySelectorAll(css));
    switch (el.by) {
      case 'role': {
        const css = `[role="${el.role}"]` + (IMPLICIT[el.role] ? ', ' + IMPLICIT[el.role] : '');
        const own = (e) => !e.hasAttribute('role') || e.getAttribute('role') === el.role;
        return all(css).filter((e) => own(e) && name(e) === tidy(el.name));
      }
      case 'field':
        return all('input, select, textarea').filter((e) => name(e) === tidy(el.label) || labels(e).includes(tidy(el.label)));
      case 'text': {
        const wanted = tidy(el.text);
        // The innermost elements that hold the text.
        return all('body *').filter((e) => tidy(e.textContent).includes(wanted) &&
          !Array.from(e.children).some((c) => tidy(c.textContent).includes(wanted)));
      }
      case 'test-id':
        return all('[data-testid], [data-test-id], [data-test]').filter((e) =>
          [e.dataset.testid, e.dataset.testId, e.dataset.test].includes(el.id));
      default:
        return all(el.selector);
    }
  }

  const find = (el) => candidates(el).find(shown);

  function answer() {
    switch (ask.what) {
      case 'element': {
        const el = find(ask.element);
        if (!el) return null;
        if (!ask.reach) return {};
        el.scrollIntoView({ block: 'center', behavior: 'instant' });
        const box = el.getBoundingClientRect();
        return { x: Math.round(box.x + box.width / 2), y: Math.round(box.y + box.height / 2) };
      }
      case 'select-all': {
        const el = find(ask.element);
        if (!el) return null;
        el.focus();
        if (el.select) el.select();
        return {};
      }
      case 'choose': {
        const el = find(ask.element);
        const option = el && Array.from(el.options || []).find((o) => tidy(o.textContent) === tidy(ask.option));
        if (!option) return null;
        el.focus();
        el.value = option.value;
        el.dispatchEvent(new Event('input', { bubbles: true }));
        el.dispatchEvent(new Event('change', { bubbles: true }));
        return {};
      }
      case 'text':
        return document.body && tidy(document.body.innerText).includes(tidy(ask.text)) ? {} : null;
      case 'address':
        return location.href.includes(ask.part) ? {} : null;
      case 'loaded':
        return {};
      case 'painted':
        return performance.getEntriesByName('first-contentful-paint').length ? {} : null;
      case 'facts': {
        const seen = globalThis.seen || { lcp: 0, shifts: [], long: [] };
        const nav = performance.getEntriesByType('navigation')[0] || {};
        const fcp = performance.getEntriesByName('first-contentful-paint')[0];
        return {
          origin: performance.timeOrigin, lcp: seen.lcp, shifts: seen.shifts, long: seen.long,
          fcp: fcp ? fcp.startTime : 0, ttfb: nav.responseStart || 0, load: nav.loadEventEnd || 0,
        };
      }
    }
  }

  const until = now() + (ask.patience_ms || 0);
  for (;;) {
    const old = ask.not_origin && Math.abs(performance.timeOrigin - ask.not_origin) < 0.5;
    const settled = !ask.loaded || document.readyState === 'complete';
    const hit = !old && settled ? answer() : null;
    if (hit) {
      const nav = performance.getEntriesByType('navigation')[0];
      // The load event was over before anybody could ask whether it was.
      const at = ask.what === 'loaded' && nav && nav.loadEventEnd ? performance.timeOrigin + nav.loadEventEnd : now();
      return JSON.stringify({ ok: true, at, origin: performance.timeOrigin, ...hit });
    }
    if (now() > until) return JSON.stringify({ ok: false, at: now(), origin: performance.timeOrigin, address: location.href });
    await new Promise((go) => {
      const watch = new MutationObserver(done);
      const timer = setTimeout(done, 30);
      function done() { watch.disconnect(); clearTimeout(timer); go(); }
      watch.observe(document, { subtree: true, childList: true, attributes: true, characterData: true });
    });
  }
}
