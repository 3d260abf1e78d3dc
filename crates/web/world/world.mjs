// Outlines of countries for the map: Equal Earth, 10000 units wide, whole units, one country a line.
import { readFileSync, writeFileSync } from 'node:fs';
import { feature } from 'topojson-client';
import { geoEqualEarth, geoPath, geoArea, geoCentroid } from 'd3-geo';
import { createRequire } from 'node:module';
const require = createRequire(import.meta.url);
const iso = require('iso-3166-1');
const [coarse, fine] = ['110m', '50m'].map(s => { const t = JSON.parse(readFileSync(`node_modules/world-atlas/countries-${s}.json`)); return feature(t, t.objects.countries).features; });
const shown = coarse.filter(f => f.id !== '010');
const projection = geoEqualEarth().fitWidth(10000, { type: 'FeatureCollection', features: shown });
const path = geoPath(projection).digits(0);
// Steps instead of places, without those that lead nowhere: half the bytes.
const steps = d => (d || '').replace(/M([^Z]*)Z/g, (_, ring) => {
  let [x, y] = [0, 0], out = '';
  ring.split('L').forEach((p, i) => {
    const [px, py] = p.split(',').map(Number), [dx, dy] = [px - x, py - y];
    if (i && !dx && !dy) return;
    out += (i ? (i === 1 || !out.includes('l') ? 'l' : dx < 0 ? '' : ' ') + dx + (dy < 0 ? '' : ' ') + dy : `M${px} ${py}`);
    [x, y] = [px, py];
  });
  return out.includes('l') ? out + 'z' : '';
});
const code = f => f.id && iso.whereNumeric(f.id)?.alpha2 || '';
const large = f => { // bounds of the largest part: overseas parts would hide it
  const parts = f.geometry.type === 'MultiPolygon' ? f.geometry.coordinates.map(c => ({ type: 'Polygon', coordinates: c })) : [f.geometry];
  return parts.sort((a, b) => geoArea(b) - geoArea(a))[0];
};
const lines = shown.map(f => { const main = large(f); return [code(f), f.properties.name, path.centroid(main).map(n => n.toFixed(0)).join(' '), path.bounds(main).flat().map(n => n.toFixed(0)).join(' '), steps(path(f))].join('\t'); });
const known = new Set(shown.map(code));
for (const f of fine) if (code(f) && !known.has(code(f)) && f.id !== '010') { const c = projection(geoCentroid(large(f))).map(n => n.toFixed(0)); lines.push([code(f), f.properties.name, c.join(' '), '', ''].join('\t')); }
lines.sort();
const height = Math.ceil(path.bounds({ type: 'FeatureCollection', features: shown })[1][1]);
writeFileSync('world.tsv', `#\t${projection.scale().toFixed(3)}\t${projection.translate().map(n => n.toFixed(2)).join(' ')}\t${height}\n` + lines.join('\n') + '\n');
