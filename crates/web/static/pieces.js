// The pieces of a view: dragged, or moved by keys; what is sent is the order in which they stand. Without this the arrows ask the server.
(function () {
  'use strict';
  var form = document.querySelector('[data-pieces]');
  if (!form) return;
  var list = form.querySelector('.pieces'), said = form.querySelector('[data-said]'), held = null;
  function all() { return Array.from(list.children); }
  function numbered() {
    all().forEach(function (piece, nth) {
      piece.querySelectorAll('[aria-label]').forEach(function (named) {
        named.setAttribute('aria-label', named.getAttribute('aria-label').replace(/piece \d+/, 'piece ' + (nth + 1)));
      });
      piece.querySelectorAll('.moves button').forEach(function (button) { button.value = nth; });
    });
  }
  function move(piece, by) {
    var nth = all().indexOf(piece), to = nth + by;
    if (to < 0 || to >= all().length) return;
    var focused = document.activeElement;
    list.insertBefore(piece, by < 0 ? all()[to] : all()[to].nextSibling);
    numbered();
    if (piece.contains(focused)) focused.focus();
    said.textContent = 'Piece ' + (to + 1) + ' of ' + all().length + ' now.';
  }
  list.addEventListener('click', function (e) {
    var button = e.target.closest('.moves button');
    if (!button || button.name === 'drop') return;
    move(button.closest('li'), button.name === 'up' ? -1 : 1);
    e.preventDefault();
  });
  list.addEventListener('keydown', function (e) {
    if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return;
    move(e.target.closest('li'), e.key === 'ArrowUp' ? -1 : 1);
    e.preventDefault();
  });
  list.addEventListener('dragstart', function (e) {
    // Text in a field is chosen by dragging over it.
    if (!e.target.matches || !e.target.matches('li')) return;
    held = e.target;
    held.classList.add('is-held');
    e.dataTransfer.effectAllowed = 'move';
  });
  list.addEventListener('dragover', function (e) {
    var over = e.target.closest('.pieces > li');
    if (!held || !over) return;
    e.preventDefault();
    if (over === held) return;
    var box = over.getBoundingClientRect();
    list.insertBefore(held, e.clientY < box.top + box.height / 2 ? over : over.nextSibling);
  });
  list.addEventListener('drop', function (e) { e.preventDefault(); });
  list.addEventListener('dragend', function () {
    if (!held) return;
    held.classList.remove('is-held');
    said.textContent = 'Piece ' + (all().indexOf(held) + 1) + ' of ' + all().length + ' now.';
    held = null;
    numbered();
  });
})();
