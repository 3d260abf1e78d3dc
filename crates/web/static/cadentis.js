// The time strip, the cursor over lanes, keys. Pages work without; links carry the stretch.
(function () {
  'use strict';
  // Whose clock the person in front is on: asked for nothing else.
  var zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  if (zone) document.cookie = 'zone=' + encodeURIComponent(zone) + '; path=/; max-age=31536000; samesite=lax';
  document.addEventListener('click', function (e) { if (e.target.closest('[data-print]')) print(); });
  var strip = document.querySelector('[data-strip]');
  if (!strip) return;
  var number = function (name) { return Number(strip.dataset[name]); };
  var shown = { from: number('from'), to: number('to') };
  var stretch = { from: number('stretchFrom'), to: number('stretchTo') };
  var pointed = null;
  var NOW = Math.floor(Date.now() / 60000) * 60 + 60;

  function moment(s) { return new Date(Math.round(s / 60) * 60000).toISOString().slice(0, 16) + 'Z'; }

  function go(from, to) {
    if (to - from < 300) to = from + 300;
    if (to - from > 62 * 86400) from = to - 62 * 86400;
    var address = new URL(location.href);
    address.searchParams.set('from', moment(from));
    address.searchParams.set('to', moment(to));
    location.href = address.href;
  }

  // Dragging over any picture whose x is time chooses a stretch.
  function chooser(svg, left, right, from, to, snap) {
    var box = svg.querySelector('[data-choosing]');
    var width = svg.viewBox.baseVal.width;
    var start = null, moved = false;
    function x(e) {
      var area = svg.getBoundingClientRect();
      return Math.min(right, Math.max(left, (e.clientX - area.left) / area.width * width));
    }
    function at(px) { return Math.round((from + (px - left) / (right - left) * (to - from)) / snap) * snap; }
    svg.addEventListener('pointerdown', function (e) { if (e.button === 0) { start = x(e); moved = false; } });
    window.addEventListener('pointermove', function (e) {
      if (start === null) return;
      var here = x(e);
      moved = moved || Math.abs(here - start) > 4;
      if (!moved) return;
      box.setAttribute('x', Math.min(start, here));
      box.setAttribute('width', Math.abs(here - start));
      e.preventDefault();
    });
    window.addEventListener('pointerup', function (e) {
      if (start === null) return;
      var a = at(Math.min(start, x(e))), b = at(Math.max(start, x(e)));
      start = null;
      box.setAttribute('width', 0);
      if (moved && b > a) go(a, b);
    });
    // A drag that ends on a link is not a click on it.
    svg.addEventListener('click', function (e) { if (moved) { e.preventDefault(); moved = false; } }, true);
    svg.addEventListener('dragstart', function (e) { e.preventDefault(); });
    return x;
  }

  chooser(strip.querySelector('svg'), 0, 1248, shown.from, shown.to, 1800);

  function lineup(svg) {
    // Parts of a page come later, and each only once.
    if (svg.dataset.ready) return;
    svg.dataset.ready = '1';
    var left = Number(svg.dataset.left), right = Number(svg.dataset.right);
    var from = Number(svg.dataset.from), to = Number(svg.dataset.to);
    var x = chooser(svg, left, right, from, to, to - from > 86400 ? 3600 : 300);
    var cursor = svg.querySelector('[data-cursor]'), time = svg.querySelector('[data-cursor-time]');
    var lanes = Array.from(svg.querySelectorAll('.lane')).map(function (lane) {
      return { values: JSON.parse(lane.dataset.reads || '[]'), out: lane.querySelector('.read') };
    });
    var zone = document.querySelector('.when .zone').textContent;
    var clock = new Intl.DateTimeFormat('en-GB', { timeZone: zone, hour: '2-digit', minute: '2-digit', weekday: to - from > 86400 ? 'short' : undefined, day: to - from > 86400 ? 'numeric' : undefined });

    function nearest(values, s) {
      var low = 0, high = values.length - 1;
      while (low < high) {
        var middle = (low + high) >> 1;
        if (values[middle][0] < s) low = middle + 1; else high = middle;
      }
      if (low > 0 && s - values[low - 1][0] < values[low][0] - s) low--;
      return values[low];
    }

    svg.addEventListener('pointermove', function (e) {
      var px = x(e), s = from + (px - left) / (right - left) * (to - from);
      pointed = s;
      cursor.removeAttribute('hidden');
      cursor.setAttribute('x1', px);
      cursor.setAttribute('x2', px);
      time.setAttribute('x', px);
      time.textContent = clock.format(new Date(s * 1000));
      var beside = px > right - 180;
      lanes.forEach(function (lane) {
        var value = lane.values.length ? nearest(lane.values, s) : null;
        var near = value && Math.abs(value[0] - s) < Math.max(900, (to - from) / 60);
        lane.out.textContent = near ? value[1] : '';
        lane.out.setAttribute('x', beside ? px - 6 : px + 6);
        lane.out.setAttribute('text-anchor', beside ? 'end' : 'start');
      });
    });
    svg.addEventListener('pointerleave', function () {
      pointed = null;
      cursor.setAttribute('hidden', '');
      time.textContent = '';
      lanes.forEach(function (lane) { lane.out.textContent = ''; });
    });
    // One tab stop a lane; arrows walk along its bars.
    svg.addEventListener('keydown', function (e) {
      var bar = e.target.closest('a.run');
      if (!bar || (e.key !== 'ArrowLeft' && e.key !== 'ArrowRight')) return;
      var bars = Array.from(bar.closest('.lane').querySelectorAll('a.run'));
      var next = bars[bars.indexOf(bar) + (e.key === 'ArrowLeft' ? -1 : 1)];
      if (next) { next.focus(); e.preventDefault(); e.stopPropagation(); }
    });
  }
  function lineups() { document.querySelectorAll('[data-lineup]').forEach(lineup); }
  lineups();
  document.addEventListener('htmx:after:swap', lineups);

  // On a narrow screen a row of a table is folded: each cell then says itself which column it is of.
  function fold() {
    document.querySelectorAll('table.plain').forEach(function (table) {
      if (table.dataset.folds) return;
      table.dataset.folds = '1';
      var heads = Array.from(table.querySelectorAll('thead tr:last-child > *')).map(function (th) { return th.textContent.trim(); });
      table.querySelectorAll('tbody tr, tfoot tr').forEach(function (row) {
        Array.from(row.children).forEach(function (cell, i) {
          if (cell.tagName === 'TD' && heads[i] && cell.colSpan === 1) cell.dataset.column = heads[i];
        });
      });
    });
  }
  fold();
  document.addEventListener('htmx:after:swap', fold);

  // Values of an attribute are read when somebody wants to choose among them.
  document.addEventListener('toggle', function (e) {
    if (e.target.matches('details.filter-attribute[open]')) e.target.querySelector('[hx-get]').dispatchEvent(new Event('open'));
  }, true);

  var keys = document.getElementById('keys');
  document.querySelector('[data-keys]').addEventListener('click', function () { keys.showModal(); });
  document.addEventListener('keydown', function (e) {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.closest('input, select, textarea, [contenteditable], dialog[open]')) return;
    var length = stretch.to - stretch.from, middle = (stretch.from + stretch.to) / 2;
    switch (e.key) {
      case 'ArrowLeft': go(stretch.from - length / 2, stretch.to - length / 2); break;
      case 'ArrowRight': go(stretch.from + length / 2, stretch.to + length / 2); break;
      case '+': go(middle - length / 4, middle + length / 4); break;
      case '-': go(middle - length, Math.min(NOW, middle + length)); break;
      case '.': go(NOW - length, NOW); break;
      case 'a': {
        var address = new URL(location.href), order = ['week', 'before', 'none'];
        var held = order.indexOf(address.searchParams.get('against') || 'week');
        address.searchParams.set('against', order[(held + 1) % 3]);
        location.href = address.href;
        break;
      }
      case 'd': {
        var split = Array.from(document.querySelectorAll('[data-split] a'));
        if (!split.length) return;
        var on = split.findIndex(function (a) { return a.getAttribute('aria-current'); });
        location.href = split[(on + 1) % split.length].href;
        break;
      }
      case 'm':
        if (!('pins' in strip.dataset)) return;
        // Where the cursor is, or in the middle of the stretch.
        location.href = strip.dataset.base + '/markers/new?at=' + moment(pointed === null ? Math.min(middle, NOW) : pointed) + '&from=' + moment(stretch.from) + '&to=' + moment(stretch.to);
        break;
      case '?': keys.showModal(); break;
      default: return;
    }
    e.preventDefault();
  });
})();
