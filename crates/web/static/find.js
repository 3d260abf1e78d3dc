// The find box: a key leads to it, arrows go through what was found, Enter takes the first.
(function () {
  'use strict';
  var box = document.querySelector('[data-find]');
  if (!box) return;
  var list = document.getElementById('found');
  function links() { return Array.from(list.querySelectorAll('a')); }
  function close() { list.replaceChildren(); }
  document.addEventListener('keydown', function (e) {
    if (e.key !== '/' || e.ctrlKey || e.metaKey || e.altKey || e.target.closest('input, select, textarea, [contenteditable], dialog[open]')) return;
    box.focus();
    box.select();
    e.preventDefault();
  });
  box.form.addEventListener('keydown', function (e) {
    var all = links(), at = all.indexOf(document.activeElement);
    switch (e.key) {
      case 'ArrowDown': if (all.length) all[Math.min(at + 1, all.length - 1)].focus(); break;
      case 'ArrowUp': if (at > 0) all[at - 1].focus(); else box.focus(); break;
      case 'Escape': close(); box.focus(); break;
      // What is being typed and what was found of it are apart for a moment: then the page of all that is found comes.
      case 'Enter': if (document.activeElement !== box || !all.length || list.dataset.of !== box.value) return; location.href = all[0].href; break;
      default: return;
    }
    e.preventDefault();
  });
  document.addEventListener('htmx:before:request', function (e) { if (e.target === box) list.dataset.asks = box.value; });
  document.addEventListener('htmx:after:swap', function () { list.dataset.of = list.dataset.asks || ''; });
  document.addEventListener('click', function (e) { if (!box.form.contains(e.target)) close(); });
  box.addEventListener('input', function () { if (!box.value.trim()) close(); });
})();
