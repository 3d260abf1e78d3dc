// Scripts from files: each is told about, what could be read is there.
(function () {
  'use strict';
  var form = document.querySelector('[data-import]');
  if (!form) return;
  var list = document.querySelector('[data-brought]');
  function told(file, text, slug) {
    var item = document.createElement('li');
    item.textContent = file + ': ' + text + ' ';
    if (slug) {
      var link = document.createElement('a');
      link.href = cadentis.base + '/journeys/' + slug + '/script';
      link.textContent = 'Open it';
      item.append(link);
    } else item.className = 'broken';
    list.append(item);
  }
  form.addEventListener('submit', function (e) {
    e.preventDefault();
    list.replaceChildren();
    Array.from(form.elements.files.files).forEach(function (file) {
      var query = new URLSearchParams({ file: file.name });
      cadentis.ask(cadentis.base + '/journeys/import?' + query, 'POST', file).then(function (answer) {
        if (!answer.ok) return told(file.name, answer.detail || 'not taken');
        answer.json.files.forEach(function (f) { told(f.file, f.journey ? 'is there as “' + f.journey + '”, paused.' : f.says, f.slug); });
      });
    });
  });
})();
