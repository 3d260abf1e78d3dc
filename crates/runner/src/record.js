// Follows find.js, with `tell` from outside. Tells what a person does on the page, and what they point at:
// each with the ways to find the element again, the best first.
const MOST_WAYS = 4;
const PRESSABLE = 'a[href], button, input, select, textarea, summary, label, [role], [tabindex], [onclick]';
const TEXTUAL = 'input:not([type=checkbox]):not([type=radio]):not([type=button]):not([type=submit]):not([type=reset]):not([type=file]):not([type=image]), textarea';

function path(el) {
  if (el.id && !/\d{3}/.test(el.id)) return '#' + CSS.escape(el.id);
  const tag = el.localName, root = el.getRootNode();
  const parent = el.parentElement || (root.host ? root : null);
  if (!parent || tag === 'body') return tag;
  const same = Array.from(parent.children).filter((c) => c.localName === tag);
  const own = tag + (same.length > 1 ? `:nth-of-type(${same.indexOf(el) + 1})` : '');
  // A selector does not reach out of a shadow root.
  return parent === root ? own : path(parent) + ' > ' + own;
}

function roleOf(el) {
  const own = el.getAttribute('role');
  if (own) return own;
  const hit = Object.entries(IMPLICIT).find(([, css]) => el.matches(css));
  return hit ? hit[0] : null;
}

// Roles whose name is what is in them; the others have only the name they are given.
const NAMED_BY_CONTENT = ['button', 'cell', 'checkbox', 'heading', 'link', 'menuitem', 'option', 'radio', 'row', 'switch', 'tab'];
function called(el) {
  const role = roleOf(el), given = ['aria-label', 'aria-labelledby', 'alt', 'title'].some((a) => el.getAttribute(a));
  const named = given || labels(el).length || NAMED_BY_CONTENT.includes(role) || el.matches('input');
  return named ? name(el).slice(0, 120) : '';
}

// What holds for exactly this element; where several are alike, which of them it is.
function ways(el) {
  here = el.ownerDocument;
  const sure = [], counted = [];
  const add = (way) => {
    const all = candidates(way).filter(usable), at = all.indexOf(el);
    if (at < 0 || all.length > 40) return;
    if (all.length === 1) sure.push(way);
    else counted.push({ ...way, number: at + 1 });
  };
  const role = roleOf(el), known = called(el);
  if (role && known) add({ by: 'role', role, name: known });
  if (el.matches('input, select, textarea') && known) add({ by: 'field', label: known });
  const id = el.dataset.testid || el.dataset.testId || el.dataset.test;
  if (id) add({ by: 'test-id', id });
  const text = tidy(contentOf(el));
  if (text && text.length <= 60 && !el.matches('select')) add({ by: 'text', text });
  add({ by: 'css', selector: path(el) });
  if (role && !known) add({ by: 'role', role, name: null });
  // A field is better known by its label than as any textbox.
  if (el.matches('input, select, textarea')) sure.sort((a, b) => (b.by === 'field') - (a.by === 'field'));
  return sure.concat(counted).slice(0, MOST_WAYS);
}

// The frames around this document, the outermost first.
function frames() {
  const around = [];
  for (let w = window; w !== w.parent; w = w.parent) {
    let frame = null;
    try { frame = w.frameElement; } catch (e) { /* of another origin */ }
    if (!frame) return [[{ by: 'css', selector: `iframe[src*="${location.host}"]` }]];
    around.unshift(ways(frame));
  }
  return around;
}

// Where an element stands in the window, through its frames.
function place(el) {
  const box = el.getBoundingClientRect();
  let { x, y } = box;
  for (let w = window; w !== w.parent; w = w.parent) {
    let frame = null;
    try { frame = w.frameElement; } catch (e) { /* of another origin */ }
    if (!frame) break;
    const outer = frame.getBoundingClientRect();
    x += outer.x + frame.clientLeft; y += outer.y + frame.clientTop;
  }
  return { x, y, width: box.width, height: box.height };
}

const say = (what) => tell(JSON.stringify({ frames: frames(), ...what }));
const done = (act) => say({ did: act });
// What a person really pointed at: from outside its shadow root an event names the host.
const at = (e) => e.composedPath()[0] || e.target;
const meant = (target) => {
  for (let el = target; el && el.closest; el = el.getRootNode().host) {
    const hit = el.closest(PRESSABLE);
    if (hit) return hit;
  }
  return target;
};
// Empty space answers nothing; but a page can listen on whatever it likes.
const answers = (el) => el.matches(PRESSABLE) || getComputedStyle(el).cursor === 'pointer' || (el.children.length < 3 && tidy(contentOf(el)) && tidy(contentOf(el)).length < 80);

let pointing = false, entered = 0, dragged = null;
globalThis.cadentisPoint = (on) => { pointing = on; };

function pointed(el) {
  const text = tidy(shownText(el));
  say({ pointed: { ways: ways(el), text: text.length <= 120 ? text : '', called: called(el).slice(0, 60) || (text.length <= 60 ? text : ''), tag: el.localName, place: place(el) } });
}

const hold = (e) => { e.preventDefault(); e.stopImmediatePropagation(); };
// A press that is only to show something must not do anything.
for (const kind of ['pointerdown', 'mousedown', 'pointerup', 'mouseup', 'click']) {
  addEventListener(kind, (e) => {
    if (!e.isTrusted || !pointing) return;
    hold(e);
    if (kind === 'click') pointed(at(e));
  }, true);
}

addEventListener('mousedown', (e) => {
  if (!e.isTrusted || pointing) return;
  const el = meant(at(e));
  // The list of a select is drawn by the system and cannot be seen from outside: it is offered instead.
  if (el.localName === 'select' && !el.multiple) {
    hold(e);
    say({ options: { of: ways(el), all: Array.from(el.options).filter((o) => !o.disabled).map((o) => tidy(o.textContent)).slice(0, 200), place: place(el) } });
  }
}, true);

addEventListener('click', (e) => {
  if (!e.isTrusted || pointing) return;
  const el = meant(at(e));
  if (el.localName === 'label' && el.control) return;
  if (el.localName === 'select' || el.matches('input[type=checkbox], input[type=radio]') || el.matches(TEXTUAL)) return;
  if (el.matches('input[type=file]')) {
    hold(e);
    return done({ act: 'upload', into: ways(el) });
  }
  // Enter in a field presses the form's button by itself; the key was told already.
  if (e.detail === 0 && performance.now() - entered < 150) return;
  if (answers(el)) done({ act: 'press', what: ways(el) });
}, true);

addEventListener('input', (e) => {
  const el = at(e);
  if (!e.isTrusted || !el.matches) return;
  if (el.matches(TEXTUAL)) {
    const hidden = el.type === 'password' || el.autocomplete === 'one-time-code';
    done({ act: 'type', into: ways(el), text: hidden ? '' : el.value, hidden });
  } else if (el.isContentEditable) {
    done({ act: 'type', into: ways(el), text: el.innerText, hidden: false });
  }
}, true);

function changed(e) {
  const el = at(e);
  if (el.localName === 'select' && el.selectedOptions[0]) done({ act: 'choose', from: ways(el), option: tidy(el.selectedOptions[0].textContent) });
  else if (e.isTrusted && el.matches('input[type=checkbox], input[type=radio]')) done({ act: 'tick', what: ways(el), on: el.checked });
}
addEventListener('change', changed, true);
// A change is told inside its shadow root only: the roots that are entered are listened to.
addEventListener('focusin', (e) => {
  for (const root of e.composedPath()) if (root.host) root.addEventListener('change', changed, true);
}, true);

addEventListener('keydown', (e) => {
  if (!e.isTrusted || pointing) return;
  const target = at(e);
  const inText = target.matches && (target.matches(TEXTUAL) || target.isContentEditable);
  const chord = (e.ctrlKey || e.metaKey) && e.key.length === 1;
  if (e.key === 'Enter' && target.matches && target.matches('input')) {
    entered = performance.now();
    done({ act: 'key', keys: 'Enter' });
  } else if (e.key === 'Escape' || /^F\d+$/.test(e.key) || (chord && !inText)) {
    done({ act: 'key', keys: (e.ctrlKey ? 'Control+' : '') + (e.key.length === 1 ? e.key.toUpperCase() : e.key) });
  } else if (/^Arrow|^Page|^Home$|^End$/.test(e.key) && !inText && target !== document.body && target.localName !== 'select') {
    done({ act: 'key', keys: e.key });
  }
}, true);

addEventListener('dragstart', (e) => { dragged = ways(meant(at(e))); }, true);
addEventListener('drop', (e) => { if (dragged) done({ act: 'drag', what: dragged, to: ways(at(e)) }); dragged = null; }, true);
