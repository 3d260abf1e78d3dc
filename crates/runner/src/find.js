// How things on a page are found; what asks and what records both begin with this.
// The document that is looked through.
let here = document;
const tidy = (t) => (t || '').replace(/\s+/g, ' ').trim();
const shown = (el) => {
  const box = el.getBoundingClientRect(), style = getComputedStyle(el);
  return box.width > 0 && box.height > 0 && style.visibility !== 'hidden' && style.display !== 'none';
};

// A page is read as it is put together: what hosts an open shadow root shows that root, and a slot shows what was put
// into it.
function roots(within) {
  const all = [within];
  for (let nth = 0; nth < all.length; nth++) {
    if (all[nth].shadowRoot) all.push(all[nth].shadowRoot);
    for (const el of all[nth].querySelectorAll('*')) if (el.shadowRoot) all.push(el.shadowRoot);
  }
  return all;
}
const isPlain = (within) => roots(within).length === 1;
// Most pages have none: then the browser's own ways are right, and quicker.
let plain = false;
function* everyElement(within) {
  if (within.shadowRoot) yield* everyElement(within.shadowRoot);
  for (const el of within.children) { yield el; yield* everyElement(el); }
}
// In the order of the page, inside shadow roots, too.
const everyOne = (within, css) => (plain || isPlain(within)
  ? Array.from(within.querySelectorAll(css))
  : Array.from(everyElement(within)).filter((e) => e.matches(css)));
const partsOf = (node) => {
  if (node.shadowRoot) return node.shadowRoot.childNodes;
  const put = node.localName === 'slot' ? node.assignedNodes() : [];
  return put.length ? put : node.childNodes;
};
const OUTSIDE = ['html', 'head', 'body', 'title', 'base', 'link', 'meta', 'style', 'script', 'noscript', 'template'];
const UNSEEN = ['SCRIPT', 'STYLE', 'NOSCRIPT', 'TEMPLATE'];
function textOf(node) {
  if (node.nodeType === 3) return node.data;
  if (node.nodeType !== 1 || UNSEEN.includes(node.tagName)) return '';
  return Array.from(partsOf(node), textOf).join('');
}
const hasSlots = (el) => el.localName === 'slot' || el.querySelector('slot') !== null;
const contentOf = (el) => (plain || (isPlain(el) && !hasSlots(el)) ? el.textContent : textOf(el));
// As `innerText`, which leaves shadow roots out.
function shownText(node) {
  if (node.nodeType === 3) return node.data;
  if (node.nodeType !== 1 || UNSEEN.includes(node.tagName) || getComputedStyle(node).display === 'none') return '';
  if (isPlain(node) && !hasSlots(node)) return node.innerText ?? node.textContent;
  const apart = (part) => part.nodeType === 1 && !getComputedStyle(part).display.startsWith('inline');
  return Array.from(partsOf(node), (part) => (apart(part) ? `\n${shownText(part)}\n` : shownText(part))).join('');
}
// Whether `inner` is shown as a part of `outer`.
function holds(outer, inner) {
  for (let n = inner; n; n = n.assignedSlot || n.parentNode || n.host) if (n === outer) return true;
  return false;
}

const IMPLICIT = {
  article: 'article', button: 'button, input[type=submit], input[type=button]', cell: 'td',
  checkbox: 'input[type=checkbox]', combobox: 'select', dialog: 'dialog', figure: 'figure', form: 'form',
  heading: 'h1, h2, h3, h4, h5, h6', img: 'img', link: 'a[href]', list: 'ul, ol', listbox: 'select[multiple]',
  listitem: 'li', main: 'main', navigation: 'nav', option: 'option', radio: 'input[type=radio]', region: 'section',
  row: 'tr', searchbox: 'input[type=search]', slider: 'input[type=range]', spinbutton: 'input[type=number]', table: 'table',
  textbox: 'input:not([type]), input[type=text], input[type=email], input[type=tel], input[type=password], textarea',
};

function labels(el) {
  // What a field holds is no part of what it is called, where its label stands around it.
  const around = (node) => (node === el ? '' : node.nodeType === 1 && node.contains(el)
    ? Array.from(partsOf(node), around).join('') : node.nodeType === 1 ? contentOf(node) : textOf(node));
  return el.labels ? Array.from(el.labels).map((l) => tidy(around(l))) : [];
}

function name(el) {
  const by = (el.getAttribute('aria-labelledby') || '').split(/\s+/).filter(Boolean)
    .map((id) => el.getRootNode().getElementById(id)).filter(Boolean).map((e) => tidy(contentOf(e))).join(' ');
  return by || tidy(el.getAttribute('aria-label')) || tidy(el.getAttribute('alt')) || labels(el)[0] ||
    tidy(contentOf(el)) || tidy(el.getAttribute('value')) || tidy(el.getAttribute('title'));
}

// Every shown element that this way of finding leads to.
function candidates(el) {
  plain = isPlain(here);
  const within = el.inside ? found(el.inside) : here;
  if (!within) return [];
  const all = (css) => everyOne(within, css);
  switch (el.by) {
    case 'role': {
      const css = `[role="${el.role}"]` + (IMPLICIT[el.role] ? ', ' + IMPLICIT[el.role] : '');
      const own = (e) => !e.hasAttribute('role') || e.getAttribute('role') === el.role;
      return all(css).filter((e) => own(e) && (el.name === null || name(e) === tidy(el.name)));
    }
    case 'field':
      return all('input, select, textarea').filter((e) => name(e) === tidy(el.label) || labels(e).includes(tidy(el.label)));
    case 'text': {
      const wanted = tidy(el.text);
      // The innermost elements that hold the text.
      const has = (e) => tidy(contentOf(e)).includes(wanted);
      return all('*').filter((e) => !OUTSIDE.includes(e.localName) && has(e) &&
        !Array.from(partsOf(e)).some((part) => part.nodeType === 1 && has(part)));
    }
    case 'test-id':
      return all('[data-testid], [data-test-id], [data-test]').filter((e) =>
        [e.dataset.testid, e.dataset.testId, e.dataset.test].includes(el.id));
    default:
      return all(el.selector);
  }
}

// A file field is often hidden behind a button of the page's own.
const usable = (e) => shown(e) || (e instanceof HTMLInputElement && e.type === 'file');
const found = (el) => candidates(el).filter(usable)[(el.number || 1) - 1];
