// A calendar file goes into the field that its text could be pasted into.
(function () {
  'use strict';
  var input = document.querySelector('[data-into]');
  if (!input) return;
  var says = document.querySelector('[data-into-says]');
  input.addEventListener('change', function () {
    var file = input.files[0];
    says.textContent = '';
    if (!file) return;
    if (file.size > 1e6) { says.textContent = 'It is larger than 1 MB.'; return; }
    file.text().then(function (text) { input.form.elements[input.dataset.into].value = text; });
  });
})();
