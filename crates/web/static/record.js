// Recording: a page in a browser elsewhere, drawn here; mouse and keys go there, acts come back as steps.
(function () {
  'use strict';
  var room = document.querySelector('[data-record]');
  if (!room) return;
  var at = function (name) { return document.querySelector('[data-' + name + ']'); };
  var form = at('record-ask'), canvas = at('screen'), draw = canvas.getContext('2d'), over = at('over');
  var id = null, picture = 0, acts = '', about = {}, pointing = false, saved = false;

  function says(text, wrong) { at('record-says').textContent = text; at('record-says').classList.toggle('broken', Boolean(wrong)); }
  var ask = cadentis.ask, el = cadentis.el, base = cadentis.base;

  // --- inputs, in their order, a few at a time ---
  var queue = [], sending = false;
  function input(what) {
    var last = queue[queue.length - 1];
    // Only where the mouse is now matters, not every place it passed.
    if (last && last.do === 'move' && what.do === 'move') queue.pop();
    if (last && last.do === 'wheel' && what.do === 'wheel') { what.dx += last.dx; what.dy += last.dy; queue.pop(); }
    queue.push(what);
    send();
  }
  function send() {
    if (sending || !queue.length || !id) return;
    sending = true;
    var batch = queue;
    queue = [];
    ask(base + '/api/recordings/' + id + '/inputs', 'POST', batch).then(function (answer) {
      sending = false;
      if (!answer.ok) return says(answer.detail || 'What you did did not get there.', true);
      setTimeout(send, 30);
    });
  }
  function place(e) {
    var box = canvas.getBoundingClientRect();
    return { x: (e.clientX - box.left) * canvas.width / box.width, y: (e.clientY - box.top) * canvas.height / box.height };
  }
  function mouse(kind, e) { var p = place(e); input({ do: kind, x: p.x, y: p.y }); }
  canvas.addEventListener('pointermove', function (e) { if (id) mouse('move', e); });
  canvas.addEventListener('pointerdown', function (e) {
    if (!id || e.button !== 0) return;
    canvas.focus();
    canvas.setPointerCapture(e.pointerId);
    over.hidden = true;
    mouse('move', e);
    mouse('down', e);
    e.preventDefault();
  });
  canvas.addEventListener('pointerup', function (e) { if (id && e.button === 0) mouse('up', e); });
  canvas.addEventListener('wheel', function (e) {
    if (!id) return;
    var p = place(e);
    input({ do: 'wheel', x: p.x, y: p.y, dx: e.deltaX, dy: e.deltaY });
    e.preventDefault();
  }, { passive: false });
  canvas.addEventListener('keydown', function (e) {
    if (!id || ['Control', 'Shift', 'Alt', 'Meta'].indexOf(e.key) >= 0) return;
    // Keys of this page must not act on what is meant for that one.
    e.stopPropagation();
    if (e.key === 'F6') { at('undo').focus(); e.preventDefault(); return; }
    // A paste brings its text by itself.
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'v') return;
    var one = Array.from(e.key).length === 1;
    if (one && !e.ctrlKey && !e.metaKey) input({ do: 'text', text: e.key });
    else {
      var keys = (e.ctrlKey ? 'Control+' : '') + (e.metaKey ? 'Meta+' : '') + (e.altKey ? 'Alt+' : '') + (e.shiftKey && !one ? 'Shift+' : '') + (e.key === ' ' ? 'Space' : e.key);
      input({ do: 'key', keys: keys });
    }
    e.preventDefault();
  });
  canvas.addEventListener('paste', function (e) {
    var text = e.clipboardData.getData('text');
    if (text) input({ do: 'text', text: text.slice(0, 2000) });
    e.preventDefault();
  });
  at('back').onclick = function () { input({ do: 'back' }); };
  at('reload').onclick = function () { input({ do: 'reload' }); };
  at('close-window').onclick = function () { input({ do: 'close-window' }); };
  function point(on) {
    pointing = on;
    at('point').setAttribute('aria-pressed', String(on));
    room.classList.toggle('pointing', on);
    over.hidden = true;
    input({ do: 'point', on: on });
    if (on) says('Press what you mean in the page; nothing happens there.');
  }
  at('point').onclick = function () { point(!pointing); };

  // --- what the page asks us: a list of options, a dialog, what to do with what was pointed at ---
  function button(text, act, className) {
    var b = el('button', className || '', text);
    b.type = 'button';
    b.onclick = act;
    return b;
  }
  function add(act) {
    return ask(base + '/api/recordings/' + id + '/acts', 'POST', { add: act }).then(function (answer) {
      if (!answer.ok) says(answer.detail || 'Not written down.', true);
    });
  }
  function show(where, children) {
    var scale = canvas.getBoundingClientRect().width / canvas.width;
    over.replaceChildren.apply(over, children);
    over.hidden = false;
    over.style.left = Math.max(0, Math.min(where.x * scale, canvas.clientWidth - 300)) + 'px';
    over.style.top = Math.max(0, Math.min((where.y + where.height) * scale, canvas.clientHeight - 170)) + 'px';
  }
  var shownFor = '';
  function overlay() {
    var kind = JSON.stringify([about.options, about.pointed, about.dialog]);
    if (kind === shownFor) return;
    shownFor = kind;
    over.hidden = true;
    if (about.dialog) {
      var d = about.dialog;
      var replies = [el('p', '', 'The page asks: ' + d.says), button('Accept', function () { input({ do: 'dialog', accept: true }); }, 'main')];
      if (d.kind !== 'alert') replies.push(button('Dismiss', function () { input({ do: 'dialog', accept: false }); }));
      return show({ x: 440, y: 200, height: 0 }, replies);
    }
    if (about.options) {
      var o = about.options, list = el('ul', 'options');
      o.all.forEach(function (text) {
        var item = el('li');
        item.append(button(text || '(empty)', function () { over.hidden = true; input({ do: 'choose', context: o.context, of: o.of, option: text }); }));
        list.append(item);
      });
      return show(o.place, [list]);
    }
    if (about.pointed && pointing) {
      var p = about.pointed, called = p.called || p.tag;
      var then = function (act) { return function () { add(act).then(function () { point(false); canvas.focus(); says('Written down.'); }); }; };
      var ways = [el('p', '', p.tag + (p.called ? ' “' + p.called + '”' : ''))];
      if (p.text) ways.push(button('Expect this text', then({ act: 'expect-text', text: p.text, inside: null })));
      ways.push(button('Expect it to be there', then({ act: 'expect-element', what: p.ways })));
      ways.push(button('Mark when it appears', then({ act: 'mark', name: called, what: p.ways })));
      ways.push(button('Wait for it', then({ act: 'wait-for', what: p.ways })));
      ways.push(button('Hover over it', function () { input({ do: 'hover', what: p.ways }); point(false); }));
      show(p.place, ways);
      outline(p.place);
    }
  }
  function outline(box) {
    draw.strokeStyle = getComputedStyle(document.documentElement).getPropertyValue('--users');
    draw.lineWidth = 3;
    draw.strokeRect(box.x, box.y, box.width, box.height);
  }

  // --- what was done so far ---
  function steps(all) {
    var list = at('recorded');
    if (list.contains(document.activeElement)) return;
    list.replaceChildren();
    all.forEach(function (step, nth) {
      var item = el('li'), name = el('input', 'step-name');
      name.value = step.name;
      name.setAttribute('aria-label', 'Name of step ' + (nth + 1));
      name.maxLength = 80;
      name.onchange = function () { add({ act: 'name', step: nth, name: name.value }); };
      item.append(name);
      step.says.forEach(function (s) { item.append(el('code', '', s)); });
      list.append(item);
    });
    list.scrollTop = list.scrollHeight;
  }
  at('undo').onclick = function () { ask(base + '/api/recordings/' + id + '/acts', 'POST', 'undo-last'); };

  function look() {
    var mine = id;
    ask(base + '/api/recordings/' + mine + '?picture=' + picture + '&acts=' + acts, 'GET').then(function (answer) {
      if (mine !== id) return;
      var now = answer.json;
      if (!answer.ok) {
        says(answer.detail || 'It is not known how it stands.', true);
        if (answer.status !== 404) setTimeout(look, 1000);
        return;
      }
      if (!now.runner && !now.ended) says('Waiting for a browser there, ' + now.waits_s + ' s so far.');
      else if (!picture && now.nth) says('What you do in the page is written down.');
      about = now.about || {};
      if (now.acts !== acts) { acts = now.acts; steps(now.steps); }
      at('address').textContent = about.address || '';
      at('close-window').hidden = !(about.windows > 1);
      picture = now.nth;
      if (now.picture) {
        var image = new Image();
        image.onload = function () {
          draw.drawImage(image, 0, 0, canvas.width, canvas.height);
          if (pointing && about.pointed) outline(about.pointed.place);
          room.dataset.shown = String(now.nth);
        };
        image.src = now.picture;
      }
      overlay();
      if (now.ended) {
        id = null;
        says((now.trouble ? 'It ended: ' + now.trouble + ' ' : 'It has ended. ') + 'What was written down is kept.', Boolean(now.trouble));
        keep(mine);
        return;
      }
      look();
    });
  }
  function keep(recorded) { var b = at('stop'); b.textContent = 'Keep'; b.onclick = function () { leave(recorded); }; }
  function leave(recorded) { saved = true; location.href = base + '/journeys/new?recorded=' + recorded; }
  at('stop').onclick = function () {
    var recorded = id;
    if (recorded) ask(base + '/api/recordings/' + recorded, 'DELETE').then(function () { id = null; leave(recorded); });
  };
  form.addEventListener('submit', function (e) {
    e.preventDefault();
    if (id) ask(base + '/api/recordings/' + id, 'DELETE');
    ask(base + '/api/recordings', 'POST', { address: form.elements.address.value, location: form.elements.location.value }).then(function (answer) {
      if (!answer.ok) return says(answer.detail || 'Not opened.', true);
      id = answer.json.id;
      picture = 0; acts = ''; about = {}; shownFor = '';
      draw.clearRect(0, 0, canvas.width, canvas.height);
      room.hidden = false;
      says('Waiting for a browser there…');
      look();
    });
  });
  window.addEventListener('beforeunload', function (e) { if (id && !saved) e.preventDefault(); });
  window.addEventListener('pagehide', function () { if (id) fetch(base + '/api/recordings/' + id, { method: 'DELETE', keepalive: true }); });
})();
