// A view on a wall: each piece is read anew every minute. What could not be read stays as it was, and the wall says since when.
(function () {
  'use strict';
  var EVERY = 60000, OLD = 3 * EVERY;
  var pieces = Array.from(document.querySelectorAll('[data-piece]'));
  var stale = document.querySelector('[data-stale]'), now = document.querySelector('[data-now]');
  var began = Date.now();
  // By the clock of the site, as everything else on it.
  function clock(at) { return new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: now.dataset.now }); }
  function read(piece) {
    fetch(piece.dataset.piece, { headers: { 'hx-request': 'true' }, signal: AbortSignal.timeout(EVERY - 5000) }).then(function (answer) {
      // The view was changed: its page is another one.
      if (answer.status === 410) location.reload();
      if (!answer.ok) throw new Error(answer.status);
      return answer.text();
    }).then(function (text) {
      piece.innerHTML = text;
      piece.dataset.at = Date.now();
      tell();
    }).catch(tell);
  }
  function tell() {
    var at = pieces.map(function (piece) { return Number(piece.dataset.at || began); });
    var oldest = Math.min.apply(null, at);
    var old = pieces.length && Date.now() - oldest > OLD;
    stale.hidden = !old;
    stale.textContent = old ? 'Not read anew since ' + clock(oldest) + ': what stands here is old.' : '';
    document.body.classList.toggle('is-stale', Boolean(old));
  }
  function round() { pieces.forEach(read); }
  function tick() { now.textContent = clock(Date.now()); tell(); }
  round();
  tick();
  setInterval(round, EVERY);
  setInterval(tick, 5000);
})();
