// What scripts of pages share: asking the server, and making elements.
window.cadentis = (function () {
  'use strict';
  // Sends what is given: a Blob as it is, anything else as JSON. Never fails: `ok` says how it went, `status` is 0 when
  // the server does not answer, `detail` says in words what is wrong (problem+json, RFC 9457).
  function ask(address, method, body) {
    var headers = { accept: 'application/json' };
    if (body instanceof Blob) headers['content-type'] = 'application/octet-stream';
    else if (body) {
      headers['content-type'] = 'application/json';
      body = JSON.stringify(body);
    }
    return fetch(address, { method: method, headers: headers, body: body }).then(function (answer) {
      return answer.text().then(function (text) {
        var json = {};
        try { json = JSON.parse(text); } catch (e) { /* an answer without a body */ }
        return { ok: answer.ok, status: answer.status, json: json, detail: json.detail };
      });
    }, function () {
      return { ok: false, status: 0, json: {}, detail: 'The server does not answer. What you wrote is still here.' };
    });
  }
  function el(tag, className, text) {
    var e = document.createElement(tag);
    if (className) e.className = className;
    if (text !== undefined) e.textContent = text;
    return e;
  }
  // What cannot be taken back, or wakes people, asks once more; without scripts it is done at once.
  document.addEventListener('submit', function (e) {
    var says = (e.submitter && e.submitter.dataset.confirm) || e.target.dataset.confirm;
    if (says && !window.confirm(says)) e.preventDefault();
  });
  // What the addresses of everything about the page's site begin with. This script is read before the page's body is.
  return { ask: ask, el: el, get base() { return document.body.dataset.base; } };
})();
