// What a new journey will cost, as fields change; and only the chosen starter's fields.
(function () {
  'use strict';
  var form = document.querySelector('[data-start]');
  if (!form) return;
  var author = form.elements.author;
  if (!author.value) author.value = localStorage.getItem('cadentis-author') || '';
  var whole = new Intl.NumberFormat('en', { maximumFractionDigits: 0 });
  function reckon() {
    form.querySelectorAll('.starter').forEach(function (s) {
      s.querySelector('.starter-fields').hidden = !s.querySelector('input[type=radio]').checked;
    });
    var places = form.querySelectorAll('input[name=location]:checked').length, every = Number(form.elements.every.value);
    var says = '';
    if (places && every >= 1) {
      var day = Math.round(1440 / every) * places, month = day * 30;
      says = whole.format(day) + ' runs a day, ' + whole.format(month) + ' in 30 days';
      // The site's own runs of the last day are the measure.
      var s = Number(form.dataset.meanS), bytes = Number(form.dataset.meanBytes);
      if (s) says += '; about ' + whole.format(month * s / 60) + ' minutes of browser';
      if (bytes) says += ' and ' + whole.format(month * bytes / 1e6) + ' MB of evidence, reckoned by this site’s runs of the last day';
      says += '.';
    }
    form.querySelector('[data-cost]').textContent = says;
  }
  form.addEventListener('input', reckon);
  form.addEventListener('submit', function () { localStorage.setItem('cadentis-author', author.value.trim()); });
  reckon();
})();
