// A new journey: only the chosen starter's fields; who writes it is remembered.
(function () {
  'use strict';
  var form = document.querySelector('[data-start]');
  if (!form) return;
  function chosen() {
    form.querySelectorAll('.starter').forEach(function (s) {
      s.querySelector('.starter-fields').hidden = !s.querySelector('input[type=radio]').checked;
    });
  }
  form.addEventListener('input', chosen);
  chosen();
})();
