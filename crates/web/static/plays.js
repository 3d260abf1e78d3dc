// Where and how often a journey plays: only the fields of the chosen pace, when it plays next, what it costs.
(function () {
  'use strict';
  var room = document.querySelector('[data-plays]');
  if (!room) return;
  var whole = new Intl.NumberFormat('en', { maximumFractionDigits: 0 });
  var field = function (name) { return room.querySelector('[name=' + name + ']'); };
  var nth = 0, waiting = null;
  function reckon() {
    var mine = ++nth, asked = new URLSearchParams();
    ['pace', 'every', 'cron', 'cron_zone', 'once'].forEach(function (name) { asked.set(name, field(name).value); });
    cadentis.ask(cadentis.base + '/api/pace?' + asked, 'GET').then(function (answer) {
      // What it costs can be asked again.
      if (mine !== nth || !answer.status) return;
      var pace = answer.json;
      var places = room.querySelectorAll('input[name=location]:checked').length, says = '';
      var next = room.querySelector('[data-next]');
      next.textContent = !answer.ok ? answer.detail : (pace.late ? 'That moment is past: it plays as soon as it is started.' : 'Next, as the first location plays it: ' + pace.next.join('; ') + '.');
      next.classList.toggle('broken', !answer.ok);
      if (places && pace.runs) {
        var month = pace.runs * places;
        if (pace.runs > 60) says = whole.format(month / 30) + ' runs a day, ';
        says += whole.format(month) + ' in 30 days';
        // The site's own runs of the last day are the measure.
        var s = Number(room.dataset.meanS), bytes = Number(room.dataset.meanBytes);
        if (s) says += '; about ' + whole.format(month * s / 60) + ' minutes of browser';
        if (bytes) says += ' and ' + whole.format(month * bytes / 1e6 * room.dataset.keep / 30) + ' MB of evidence kept at a time, reckoned by this site’s runs of the last day';
        says += '.';
      }
      room.querySelector('[data-cost]').textContent = says;
    });
  }
  function changed() {
    room.querySelectorAll('[data-for]').forEach(function (l) { l.hidden = l.dataset.for !== field('pace').value; });
    clearTimeout(waiting);
    waiting = setTimeout(reckon, 150);
  }
  room.addEventListener('input', changed);
  changed();
})();
