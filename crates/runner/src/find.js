// How things on a page are found; what asks and what records both begin with this.
// The document that is looked through.
let here = document;
const tidy = (t) => (t || '').replace(/\s+/g, ' ').trim();
const shown = (el) => {
  const box = el.getBoundingClientRect(), style = getComputedStyle(el);
  return box.width > 0 && box.height > 0 && style.visibility !== 'hidden' && style.display !== 'none';
};

const IMPLICIT = {
  article: 'article', button: 'button, input[type=submit], input[type=button]', cell: 'td',
  checkbox: 'input[type=checkbox]', combobox: 'select', dialog: 'dialog', figure: 'figure', form: 'form',
  heading: 'h1, h2, h3, h4, h5, h6', img: 'img', link: 'a[href]', list: 'ul, ol', listbox: 'select[multiple]',
  listitem: 'li', main: 'main', navigation: 'nav', option: 'option', radio: 'input[type=radio]', region: 'section',
  row: 'tr', searchbox: 'input[type=search]', slider: 'input[type=range]', spinbutton: 'input[type=number]', table: 'table',
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

// Every shown element that this way of finding leads to.
function candidates(el) {
  const within = el.inside ? found(el.inside) : here;
  if (!within) return [];
  const all = (css) => Array.from(within.querySelectorAll(css));
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
      return all(within === here ? 'body *' : '*').filter((e) => tidy(e.textContent).includes(wanted) &&
        !Array.from(e.children).some((c) => tidy(c.textContent).includes(wanted)));
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
