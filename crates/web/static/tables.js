// Every table as a file, and every chart as a table: one way for all of them, whenever they come.
(function () {
  'use strict';
  var MOST = 5000;
  function text(cell) {
    var copy = cell.cloneNode(true);
    copy.querySelectorAll('form, button, .watch, .visually-hidden, title, [aria-hidden]').forEach(function (part) { part.remove(); });
    return copy.textContent.replace(/\s+/g, ' ').trim();
  }
  // As the server writes its files: what begins like a formula is the text that it is.
  function plain(value) {
    if (/^[=+\-@\t\r]/.test(value) && !/^[+-]?\d+(\.\d+)?$/.test(value)) value = "'" + value;
    return /[",\r\n]/.test(value) ? '"' + value.replace(/"/g, '""') + '"' : value;
  }
  // Cells of a row at the columns that they stand over.
  function spread(row) {
    var cells = [];
    Array.from(row.cells).forEach(function (cell) {
      for (var n = 0; n < cell.colSpan; n++) cells.push(n && row.parentNode.tagName !== 'THEAD' ? '' : text(cell));
    });
    return cells;
  }
  function csv(table) {
    var heads = Array.from(table.tHead ? table.tHead.rows : []).map(spread);
    var rows = Array.from(table.rows).filter(function (row) {
      return row.parentNode.tagName !== 'THEAD' && !row.classList.contains('opened');
    }).map(spread);
    var wide = Math.max.apply(null, heads.concat(rows).map(function (row) { return row.length; }).concat(0));
    var all = heads.length ? [Array.from({ length: wide }, function (_, i) {
      return heads.map(function (row) { return row[i] || ''; }).filter(Boolean).join(': ');
    })] : [];
    all = all.concat(rows);
    // Columns of buttons alone are none.
    var kept = Array.from({ length: wide }, function (_, i) { return i; }).filter(function (i) { return all.some(function (row) { return row[i]; }); });
    return all.map(function (row) { return kept.map(function (i) { return plain(row[i] || ''); }).join(','); }).join('\r\n') + '\r\n';
  }
  cadentis.csv = csv;
  function named(table) {
    var heading = table.caption || (table.closest('section') || document).querySelector('h1, h2');
    var parts = [document.title.split(' · ')[0], heading ? text(heading) : ''];
    return parts.join(' ').toLowerCase().normalize('NFD').replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, '').slice(0, 80) + '.csv';
  }
  function offer(table) {
    if (table.dataset.file || table.rows.length < 3 || table.closest('form') || table.closest('.document')) return;
    table.dataset.file = 'offered';
    var button = document.createElement('button');
    button.type = 'button';
    button.className = 'table-file';
    button.textContent = 'CSV';
    button.title = 'This table as a file';
    button.addEventListener('click', function () {
      var link = document.createElement('a');
      link.href = URL.createObjectURL(new Blob([csv(table)], { type: 'text/csv;charset=utf-8' }));
      link.download = named(table);
      link.click();
      setTimeout(function () { URL.revokeObjectURL(link.href); }, 1000);
    });
    (table.closest('.scroll-x') || table).after(button);
  }
  function twin(svg) {
    if (svg.dataset.twin || svg.classList.contains('narrow-only')) return;
    svg.dataset.twin = 'offered';
    var lanes = Array.from(svg.querySelectorAll('.lane')).map(function (lane) {
      var title = lane.querySelector('.title');
      return { title: title ? text(title) : '', values: JSON.parse(lane.dataset.reads || '[]') };
    }).filter(function (lane) { return lane.values.length; });
    if (lanes.length) behind(svg, function () { return written(lanes, svg); });
  }
  // Parts of a chart that is not over time, each with its row.
  function parts(svg) {
    if (svg.dataset.twin) return;
    svg.dataset.twin = 'offered';
    behind(svg, function () {
      var made = begun(svg.getAttribute('aria-label').split(/[;:]/)[0], JSON.parse(svg.dataset.columns));
      svg.querySelectorAll('[data-row]').forEach(function (part) { made.line(JSON.parse(part.dataset.row)); });
      return made.box;
    });
  }
  function behind(svg, table) {
    var details = document.createElement('details');
    details.className = 'twin';
    details.innerHTML = '<summary>As a table</summary>';
    details.addEventListener('toggle', function () {
      if (details.open && !details.querySelector('table')) details.append(table());
      tables();
    });
    (svg.closest('.scrolls') || svg).after(details);
  }
  // A table of these columns, and how it gets its lines: the first cell of each says what it is of.
  function begun(title, columns) {
    var box = document.createElement('div'), table = document.createElement('table');
    box.className = 'scroll-x';
    table.className = 'plain';
    table.createCaption().textContent = title;
    function fill(row, values) {
      var isHead = row.parentNode.tagName === 'THEAD';
      values.forEach(function (value, nth) {
        var made = document.createElement(isHead || !nth ? 'th' : 'td');
        if (made.tagName === 'TH') made.scope = isHead ? 'col' : 'row';
        made.textContent = value || '';
        row.append(made);
      });
    }
    fill(table.createTHead().insertRow(), columns);
    var body = table.createTBody();
    box.append(table);
    return { box: box, line: function (values) { fill(body.insertRow(), values); } };
  }
  function written(lanes, svg) {
    var zone = document.querySelector('.when .zone, [data-now]');
    zone = zone ? zone.dataset.now || zone.textContent : 'UTC';
    var clock = new Intl.DateTimeFormat('sv-SE', { timeZone: zone, dateStyle: 'short', timeStyle: 'short' });
    var at = new Map();
    lanes.forEach(function (lane, nth) {
      lane.values.forEach(function (value) {
        if (!at.has(value[0])) at.set(value[0], []);
        at.get(value[0])[nth] = value[1];
      });
    });
    var moments = Array.from(at.keys()).sort(function (a, b) { return a - b; });
    var title = svg.getAttribute('aria-label').split(/[;:]/)[0] + ', ' + zone
      + (moments.length > MOST ? ', the first ' + MOST + ' of ' + moments.length + ' moments' : '');
    // Lanes that are read at the same moments stand beside each other, others below.
    var read = lanes.reduce(function (sum, lane) { return sum + lane.values.length; }, 0);
    var beside = read * 2 > moments.length * lanes.length;
    var heads = beside ? lanes.map(function (lane) { return lane.title; }) : ['Lane', 'Reads'];
    var made = begun(title, ['When'].concat(heads));
    function line(second, cells) { made.line([clock.format(new Date(second * 1000))].concat(cells)); }
    moments.slice(0, MOST).forEach(function (second) {
      var values = at.get(second);
      if (beside) line(second, lanes.map(function (_, nth) { return values[nth]; }));
      else values.forEach(function (value, nth) { line(second, [lanes[nth].title, value]); });
    });
    return made.box;
  }
  function tables() { document.querySelectorAll('table.plain').forEach(offer); }
  function all() {
    document.querySelectorAll('[data-lineup]').forEach(twin);
    document.querySelectorAll('svg[data-columns]').forEach(parts);
    tables();
  }
  all();
  document.addEventListener('htmx:after:swap', all);
})();
