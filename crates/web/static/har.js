// An archive of requests, read by the server and shown here; nothing is kept.
(function () {
  'use strict';
  var form = document.querySelector('[data-har]');
  if (!form) return;
  var room = document.querySelector('[data-har-room]'), says = document.querySelector('[data-har-says]');
  var text = '';
  function show(step) {
    says.textContent = 'Reading…';
    fetch(cadentis.base + '/har?step=' + step, { method: 'POST', headers: { 'content-type': 'text/plain' }, body: text }).then(function (answer) {
      return answer.text().then(function (html) {
        if (!answer.ok) {
          // What is wrong is told as plain words.
          says.textContent = html.slice(0, 400) || 'It cannot be read.';
          says.className = 'broken';
          return;
        }
        says.textContent = '';
        says.className = '';
        room.innerHTML = html;
      });
    }, function () { says.textContent = 'The server does not answer.'; });
  }
  function take(file) {
    if (!file) return;
    if (file.size > 30e6) { says.textContent = 'It is larger than 30 MB.'; says.className = 'broken'; return; }
    file.text().then(function (read) { text = read; show(0); });
  }
  form.querySelector('input').addEventListener('change', function (e) { take(e.target.files[0]); });
  document.addEventListener('dragover', function (e) { e.preventDefault(); });
  document.addEventListener('drop', function (e) { e.preventDefault(); take(e.dataTransfer.files[0]); });
  room.addEventListener('click', function (e) {
    var tab = e.target.closest('[data-har-step]');
    if (tab) show(tab.dataset.harStep);
  });
})();
