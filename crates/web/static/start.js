// A new journey: only the chosen starter's fields; who writes it is remembered.
(function () {
  'use strict';
  var form = document.querySelector('[data-start]');
  if (!form) return;
  var author = form.elements.author;
  if (!author.value) author.value = localStorage.getItem('cadentis-author') || '';
  function chosen() {
    form.querySelectorAll('.starter').forEach(function (s) {
      s.querySelector('.starter-fields').hidden = !s.querySelector('input[type=radio]').checked;
    });
  }
  form.addEventListener('input', chosen);
  form.addEventListener('submit', function () { localStorage.setItem('cadentis-author', author.value.trim()); });
  chosen();
})();
