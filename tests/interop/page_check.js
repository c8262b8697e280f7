/* Opens a report in Chromium and says what is wrong with it, one line each: page_check.js PAGE ROWS PDF.
 * ROWS: how many devices must be drawn, "DRAWN/LISTED" where several are one symbol.  PDF: a file to print into. */
const puppeteer = require('puppeteer-core');
const axe = require('axe-core');
const path = require('path');

const [page_path, rows, pdf] = process.argv.slice(2);
const wrong = [];
const say = (text) => wrong.push(text);

async function contents(page) {
  return page.evaluate(() => {
    const box = (element) => element.getBoundingClientRect();
    const inside = (svg, element) => {
      const outer = box(svg);
      const inner = box(element);
      return inner.left >= outer.left - 2 && inner.right <= outer.right + 2 && inner.top >= outer.top - 2 && inner.bottom <= outer.bottom + 2;
    };
    const site = document.querySelector('svg.site');
    const timeline = document.querySelector('section[aria-labelledby=timeline] figure svg');
    const symbols = [...site.querySelectorAll('[role=listitem]')].slice(1);
    const bars = timeline === null ? [] : [...timeline.querySelectorAll('[role=listitem]')];
    const outside = [...symbols.filter((s) => !inside(site, s)), ...bars.filter((b) => !inside(timeline, b))];
    /* Names of one line must not run into each other. */
    const texts = [...site.querySelectorAll('text')].map(box);
    let touching = 0;
    texts.forEach((a, i) => texts.slice(i + 1).forEach((b) => {
      if (a.left < b.right - 1 && b.left < a.right - 1 && a.top < b.bottom - 4 && b.top < a.bottom - 4)
        touching++;
    }));
    const cut = [...document.querySelectorAll('td, th, dd')].filter((c) => c.scrollWidth > c.clientWidth + 1).length;
    return {
      symbols: symbols.length,
      unnamed: [...symbols, ...bars].filter((e) => !(e.getAttribute('aria-label') || e.querySelector('title'))).length,
      bars: bars.length,
      drawn: timeline === null ? 0 : timeline.querySelectorAll('rect').length,
      outside: outside.map((e) => e.getAttribute('aria-label') || e.textContent.slice(0, 60)),
      touching,
      cut,
      wide: document.documentElement.scrollWidth - document.documentElement.clientWidth,
      headings: [...document.querySelectorAll('h1, h2, h3')].map((h) => h.tagName).join(' '),
      names: new Set([...document.querySelectorAll('section[aria-labelledby=devices] tbody th[scope=row]')].map((h) => h.textContent)).size,
    };
  });
}

(async () => {
  const browser = await puppeteer.launch({executablePath: process.env.CHROMIUM || '/usr/bin/chromium', headless: true,
                                          args: ['--no-sandbox', '--disable-gpu', '--disable-dev-shm-usage'], timeout: 90000, protocolTimeout: 90000});
  const page = await browser.newPage();
  const url = 'file://' + path.resolve(page_path);
  page.on('request', (request) => { if (request.url() !== url) say(`asks for ${request.url()}`); });
  page.on('pageerror', (error) => say(`error: ${error.message}`));
  page.on('console', (message) => say(`console: ${message.text()}`));
  await page.setBypassCSP(true);
  for (const scheme of ['light', 'dark']) {
    for (const width of [1280, 400]) {
      await page.setViewport({width, height: 800});
      await page.emulateMediaFeatures([{name: 'prefers-color-scheme', value: scheme}]);
      await page.goto(url);
      const seen = await contents(page);
      const [symbols, names] = rows.split('/').map(Number);
      if (seen.symbols !== symbols) say(`${seen.symbols} devices are drawn, expected ${symbols}`);
      if (seen.names !== (names || symbols)) say(`${seen.names} rows of devices, expected ${names || symbols}`);
      if (seen.bars === 0 || seen.drawn < seen.bars) say(`${seen.bars} rows in the timeline with ${seen.drawn} bars`);
      if (seen.unnamed > 0) say(`${seen.unnamed} symbols have no text`);
      seen.outside.forEach((text) => say(`outside of its drawing: ${text}`));
      if (seen.touching > 0) say(`${seen.touching} texts in the drawing run into each other`);
      if (width === 1280 && seen.cut > 0) say(`${seen.cut} cells are cut`);
      if (seen.wide > 0) say(`at ${width} pixels the page is ${seen.wide} wider than its window`);
      if (!/^H1( H2)+$/.test(seen.headings)) say(`headings: ${seen.headings}`);
      await page.evaluate(axe.source);
      const found = await page.evaluate(() => window.axe.run(document, {resultTypes: ['violations']}));
      found.violations.forEach((v) => say(`${scheme}, ${width}: ${v.id}: ${v.help}: ${v.nodes.slice(0, 2).map((n) => n.html.slice(0, 120)).join(' | ')}`));
      if (found.passes.length < 10) say(`only ${found.passes.length} rules could be applied`);
    }
  }
  await page.pdf({path: pdf, preferCSSPageSize: true, printBackground: true});
  await browser.close();
  [...new Set(wrong)].forEach((line) => console.log(line));
  process.exit(wrong.length > 0 ? 1 : 0);
})().catch((error) => { console.log(`${error}`); process.exit(2); });
