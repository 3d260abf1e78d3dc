// The script page: text and step cards that edit each other, and playing what is written.
(function () {
  'use strict';
  var room = document.querySelector('[data-script]');
  if (!room) return;
  var at = function (name, under) { return (under || document).querySelector('[data-' + name + ']'); };
  var C = CodeMirror;
  var version = Number(room.dataset.version), slug = room.dataset.slug;
  var area = at('text', room);

  var ask = cadentis.ask, el = cadentis.el, base = cadentis.base;
  var seconds = function (ms) { return (ms / 1000).toFixed(2) + ' s'; };

  // --- what the server read, shown in the text ---
  var setRead = C.StateEffect.define();
  function Complaint(says) { this.says = says; }
  Complaint.prototype = Object.create(C.WidgetType.prototype);
  Complaint.prototype.toDOM = function () { return el('div', 'complaint', '↑ ' + this.says); };
  Complaint.prototype.eq = function (other) { return other.says === this.says; };
  var shown = C.StateField.define({
    create: function () { return C.Decoration.none; },
    update: function (marks, change) {
      marks = marks.map(change.changes);
      change.effects.forEach(function (effect) {
        if (!effect.is(setRead)) return;
        var read = effect.value, doc = change.state.doc, all = [];
        read.lines.forEach(function (spans, i) {
          if (i >= doc.lines) return;
          var line = doc.line(i + 1);
          spans.forEach(function (s) {
            // Columns count characters, the text counts UTF-16 units.
            var from = line.from + Array.from(line.text).slice(0, s[0]).join('').length;
            var to = from + Array.from(line.text).slice(s[0], s[0] + s[1]).join('').length;
            if (to <= line.to && to > from) all.push(C.Decoration.mark({ class: 'say-' + s[2] }).range(from, to));
          });
        });
        read.problems.forEach(function (p) {
          var line = doc.line(Math.min(Math.max(p.line, 1), doc.lines));
          var from = Math.min(line.from + p.column - 1, line.to);
          if (line.to > from) all.push(C.Decoration.mark({ class: 'wrong' }).range(from, line.to));
          all.push(C.Decoration.widget({ widget: new Complaint(p.says), block: true, side: 1 }).range(line.to));
        });
        if (effect.value.failing) {
          var failing = doc.line(Math.min(Math.max(effect.value.failing, 1), doc.lines));
          all.push(C.Decoration.line({ class: 'failing' }).range(failing.from));
        }
        marks = C.Decoration.set(all, true);
      });
      return marks;
    },
    provide: function (field) { return C.EditorView.decorations.from(field); },
  });

  var last = null, failing = 0, waiting = null, asked = 0;
  function read() {
    var text = view.state.doc.toString(), nth = ++asked;
    ask(base + '/api/script/read', 'POST', { script: text }).then(function (answer) {
      if (nth !== asked) return;
      if (!answer.ok) { at('verdict').textContent = answer.detail || 'Not checked.'; return; }
      last = answer.json;
      last.failing = failing;
      view.dispatch({ effects: setRead.of(last) });
      var wrong = last.problems.length;
      at('verdict').textContent = wrong ? wrong + (wrong === 1 ? ' line is wrong' : ' lines are wrong') : 'can be played' + (last.browser ? '' : ', without a browser');
      at('verdict').classList.toggle('broken', wrong > 0);
      if (!wrong || last.steps.length) cards(last);
    });
  }
  var changed = C.EditorView.updateListener.of(function (update) {
    if (!update.docChanged) return;
    failing = 0;
    clearTimeout(waiting);
    waiting = setTimeout(read, 180);
  });

  // --- completion ---
  function next(context) {
    var line = context.state.doc.lineAt(context.pos);
    var typed = context.matchBefore(/[\w]*/);
    if (!context.explicit && !typed.text && line.text.slice(0, context.pos - line.from).trim() === '') return null;
    return ask(base + '/api/script/next', 'POST', {
      before: context.state.doc.sliceString(0, Math.max(0, line.from - 1)), line: line.text.slice(0, context.pos - line.from),
    }).then(function (answer) {
      var words = answer.json.next || [];
      if (!words.length) return null;
      return { from: typed ? typed.from : context.pos, options: words.map(function (w) { return { label: w, apply: w + ' ' }; }), validFor: /^\w*$/ };
    });
  }

  var view = new C.EditorView({
    parent: at('editor', room),
    state: C.EditorState.create({
      doc: area.value,
      extensions: [
        C.lineNumbers(), C.history(), C.drawSelection(), C.highlightActiveLine(), C.closeBrackets(), C.EditorView.lineWrapping,
        C.autocompletion({ override: [next] }),
        C.keymap.of(C.completionKeymap.concat(C.historyKeymap, C.defaultKeymap)),
        // The editor writes styles of its own into the page, which lets in those alone.
        C.EditorView.cspNonce.of(at('editor', room).dataset.nonce),
        C.EditorView.contentAttributes.of({ 'aria-label': 'Script' }), shown, changed,
      ],
    }),
  });
  // The keyboard must be able to scroll it without writing in it.
  view.scrollDOM.tabIndex = 0;
  view.scrollDOM.setAttribute('role', 'group');
  view.scrollDOM.setAttribute('aria-label', 'Script, to scroll');
  room.cadentisText = function () { return view.state.doc.toString(); };
  function replaceAll(text) { view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } }); }
  function lineAt(n) { return view.state.doc.line(Math.min(Math.max(n, 1), view.state.doc.lines)); }
  function setLine(n, text) {
    var line = lineAt(n), indent = /^\s*/.exec(line.text)[0];
    view.dispatch({ changes: { from: line.from, to: line.to, insert: indent + text } });
  }
  function insertAfter(n, text) { var line = lineAt(n); view.dispatch({ changes: { from: line.to, insert: '\n' + text } }); }
  function removeLine(n) {
    var line = lineAt(n), end = Math.min(line.to + 1, view.state.doc.length);
    view.dispatch({ changes: { from: line.from, to: end } });
  }
  function swap(n, other) {
    var a = lineAt(Math.min(n, other)), b = lineAt(Math.max(n, other));
    view.dispatch({ changes: [{ from: a.from, to: a.to, insert: b.text }, { from: b.from, to: b.to, insert: a.text }] });
  }

  // --- step cards ---
  function button(word, label, act) {
    var b = el('button', 'small', word);
    b.type = 'button';
    b.setAttribute('aria-label', label);
    b.title = label;
    b.onclick = act;
    return b;
  }
  function cards(readNow) {
    var holder = at('cards');
    // A card in which somebody writes is left alone until they leave it.
    if (holder.contains(document.activeElement) && document.activeElement.tagName === 'INPUT') return;
    holder.replaceChildren();
    readNow.steps.forEach(function (step, nth) {
      var card = el('section', 'card' + (step.clean_up ? ' clean-up' : ''));
      var head = el('h2', '', (nth + 1) + '. ' + step.name);
      if (step.clean_up) head.append(el('span', 'muted', ' cleans up'));
      if (step.within) head.append(el('span', 'muted', ' within ' + step.within));
      card.append(head);
      step.sentences.forEach(function (s, i) {
        var row = el('div', 'sentence-row'), input = el('input', s.says[0] === '#' ? 'note' : '');
        input.value = s.says;
        input.setAttribute('aria-label', 'Line ' + s.line + ' of ' + step.name);
        input.onchange = function () { setLine(s.line, input.value.trim()); };
        input.onfocus = function () { view.dispatch({ selection: { anchor: lineAt(s.line).from }, scrollIntoView: true }); };
        var problem = readNow.problems.find(function (p) { return p.line === s.line; });
        if (problem) { input.className += ' wrong'; input.title = problem.says; }
        row.append(input);
        if (i > 0) row.append(button('↑', 'Move up', function () { swap(s.line, step.sentences[i - 1].line); }));
        row.append(button('×', 'Remove', function () { removeLine(s.line); }));
        card.append(row);
      });
      var end = step.sentences.length ? step.sentences[step.sentences.length - 1].line : step.line;
      card.append(button('+ line', 'Add a line to ' + step.name, function () {
        insertAfter(end, '  expect text "…"');
        view.focus();
      }));
      holder.append(card);
    });
  }
  at('add-step').onclick = function () {
    var n = last ? last.steps.length + 1 : 1;
    insertAfter(view.state.doc.lines, '\nstep "Step ' + n + '"\n  expect text "…"');
  };
  at('format').onclick = function () {
    if (last && last.formatted) replaceAll(last.formatted);
    else at('verdict').textContent = 'Put right what is wrong first.';
  };

  // --- saving ---
  at('save').onclick = function () {
    var body = { script: view.state.doc.toString(), based_on: version, note: at('note').value };
    ask(base + '/journeys/' + slug + '/script', 'POST', body).then(function (answer) {
      at('saved').textContent = (answer.ok ? answer.json.says : answer.detail) || 'Not saved.';
      at('saved').classList.toggle('broken', !answer.ok);
      if (!answer.ok) return;
      version = answer.json.version;
      area.value = body.script;
      at('note').value = '';
      at('version-words').textContent = 'version ' + version;
    });
  };
  window.addEventListener('beforeunload', function (e) { if (view.state.doc.toString() !== area.value) e.preventDefault(); });

  // --- playing ---
  var trial = null;
  function says(text) { at('trial-says').textContent = text; }
  function tell(name, ms, outcome, trouble) {
    var shape = { passed: 'within', slow: 'strained', failed: 'broken' }[outcome] || 'nodata';
    var row = el('li', shape);
    row.append(el('span', 'shape ' + shape), el('b', '', name), document.createTextNode(' ' + (outcome ? outcome + ' in ' + seconds(ms) : 'playing…')));
    if (trouble) row.append(el('div', 'sentence', (trouble.line ? 'Line ' + trouble.line + ': ' : '') + trouble.says));
    return row;
  }
  function film(steps) {
    var strip = el('div', 'film');
    steps.forEach(function (s) {
      s.film.forEach(function (f, i) {
        var figure = el('figure'), img = el('img');
        img.src = f.picture;
        img.alt = 'The page ' + seconds(f.at_ms) + ' into ' + s.name;
        img.width = 164; img.height = 103; img.loading = 'lazy';
        figure.append(img, el('figcaption', '', (i === 0 ? s.name + ' ' : '') + seconds(f.at_ms)));
        strip.append(figure);
      });
    });
    return strip;
  }
  function look() {
    var id = trial;
    ask(base + '/api/trials/' + id, 'GET').then(function (answer) {
      if (id !== trial) return;
      if (!answer.ok) { says(answer.detail || 'It is not known how it goes.'); return answer.status && end(); }
      var now = answer.json, room = at('trial-room'), list = el('ol', 'trial-steps');
      if (now.steps) {
        now.steps.forEach(function (s) { list.append(tell(s.name + (s.clean_up ? ' (cleans up)' : ''), s.duration_ms, s.outcome, s.trouble)); });
        room.replaceChildren(list, film(now.steps));
        if (now.outcome === 'unmeasured') room.append(el('p', 'nodata', 'Unmeasured, by our own doing: ' + (now.trouble ? now.trouble.says : '')));
        now.steps.forEach(function (s) {
          s.fell_back.forEach(function (f) { room.append(el('p', 'strained', 'Line ' + f.line + ' fell back: found by ' + f.found_by + ' instead of ' + f.instead_of + '.')); });
        });
        if (now.repaired) room.append(button('Put the ways that held first', 'Repair the script', function () { replaceAll(now.repaired); }));
        var link = el('a', '', 'Requests, split and likely cause of this trial');
        link.href = base + '/trials/' + id;
        room.append(el('p'));
        room.lastChild.append(link);
        says('It ' + (now.outcome === 'slow' ? 'was slow' : now.outcome === 'unmeasured' ? 'was not measured' : now.outcome) + (now.outcome === 'unmeasured' ? '' : ': ' + seconds(now.duration_ms)) + ', played by ' + now.runner + ' in ' + now.browser + '.');
        failing = now.trouble && now.trouble.line || 0;
        if (last) { last.failing = failing; view.dispatch({ effects: setRead.of(last) }); }
        return end();
      }
      if (now.waiting) {
        says('Waiting for a runner there, ' + now.waits_s + ' s so far' + (now.runner_seen ? '' : '; no runner has asked for work from there in a week') + '.');
      } else {
        var p = now.progress || { steps: [] };
        (p.steps || []).forEach(function (s) { list.append(tell(s.name, s.duration_ms, s.outcome)); });
        if (last && last.steps[p.step] && (p.steps || []).length <= p.step) list.append(tell(last.steps[p.step].name));
        room.replaceChildren(list);
        if (p.picture) { var img = el('img', 'now-playing'); img.src = p.picture; img.alt = 'The page as it is now'; room.append(img); }
        says('Playing' + (p.line ? ', line ' + p.line : '') + '…');
      }
      setTimeout(look, 400);
    });
  }
  function end() { trial = null; at('play').disabled = false; at('cancel').hidden = true; }
  at('play').onclick = function () {
    ask(base + '/api/trials', 'POST', { script: view.state.doc.toString(), location: at('location').value, device: document.querySelector('[data-plays] [name=device]').value }).then(function (answer) {
      if (!answer.ok) return says(answer.detail || 'Not played.');
      trial = answer.json.id;
      at('play').disabled = true;
      at('cancel').hidden = false;
      at('trial-room').replaceChildren();
      look();
    });
  };
  at('cancel').onclick = function () {
    ask(base + '/api/trials/' + trial, 'DELETE').then(function () { says('Cancelled.'); end(); });
  };
  read();
})();
