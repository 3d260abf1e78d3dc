// Page views from files: one after the other, each with what became of it.
(function () {
  'use strict';
  var form = document.querySelector('[data-measured]');
  if (!form) return;
  var room = document.querySelector('[data-measured-room]');
  function part(html) {
    var div = document.createElement('div');
    div.innerHTML = html;
    return div;
  }
  form.addEventListener('submit', function (e) {
    e.preventDefault();
    var button = form.querySelector('button');
    button.disabled = true;
    room.replaceChildren();
    Array.from(form.elements.files.files).reduce(function (before, file) {
      return before.then(function () {
        var head = document.createElement('p'), says = document.createElement('b');
        says.textContent = file.name;
        head.append(says, ': reading…');
        room.append(head);
        if (file.size > 30e6) { head.lastChild.textContent = ': it is larger than 30 MB.'; return; }
        var query = new URLSearchParams({ file: file.name, device: form.elements.device.value, country: form.elements.country.value.trim() });
        return fetch(cadentis.base + '/settings/visitors/import?' + query, { method: 'POST', headers: { 'content-type': 'text/plain' }, body: file }).then(function (answer) {
          return answer.text().then(function (html) {
            head.lastChild.textContent = '';
            if (answer.ok || answer.status === 422) room.append(part(html));
            else head.lastChild.textContent = ': the server could not take it; bring it again, what is there already changes nothing.';
          });
        }, function () { head.lastChild.textContent = ': the server does not answer.'; });
      });
    }, Promise.resolve()).then(function () { button.disabled = false; });
  });
})();
