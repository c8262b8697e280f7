// An amplifier with a web server, played by Express with sessions and multer.
//   usage: node web_device.js FOLDER PORT     needs: npm install express express-session multer
//
//   GET  /login, POST /login     a form with a hidden token; 303, a new cookie, and the token in a field
//   POST /token                  user and password as JSON; a bearer token
//   POST /update                 multipart/form-data behind the form's login: kind, then image
//   PUT  /image                  the image as the body, behind the bearer token; 411 without a length
//   PUT  /unexpected/image       the same, but every expectation is refused (417)
//   POST /restart                gone for half a second, then it runs what was written
//   GET, PUT /settings           some members of a JSON object, behind the bearer token; a name is cut to 12 characters
//   PUT  /password               another password for the user, behind the bearer token
//   POST /factory-reset          settings as delivered, and a restart
//   GET  /identity, /status      no login
//
// The flash is FOLDER/device.bin; the version is what stands in it.
'use strict';
const crypto = require('crypto');
const fs = require('fs');
const path = require('path');
const express = require('express');
const multer = require('multer');
const session = require('express-session');

const [folder, port] = process.argv.slice(2);
const user = 'service';
let password = 'Larch:fell 7';
const limit = 1 << 20;
const flash = path.join(folder, 'device.bin');
const writing = {state: 'idle', percent: 0};
const tokens = new Map();
const delivered = {name: 'new', gain: 0, limiter: true};
const kept = path.join(folder, 'settings.json');
let settings = fs.existsSync(kept) ? JSON.parse(fs.readFileSync(kept)) : {...delivered};
let starts = 1;
let running = read_version();

function read_version() {
    return fs.readFileSync(flash).subarray(48, 64).toString('latin1').replace(/\0.*$/, '');
}

// Takes its time; false where it is at it already.
function install(bytes) {
    if (writing.state !== 'idle') return false;
    Object.assign(writing, {state: 'writing', percent: 0});
    const tick = setInterval(() => {
        writing.percent += 20;
        if (writing.percent < 100) return;
        clearInterval(tick);
        fs.writeFileSync(flash, bytes);
        Object.assign(writing, {state: 'idle', percent: 0});
    }, 100);
    return true;
}

function restart() {
    server.close();
    server.closeAllConnections();
    setTimeout(() => {
        starts += 1;
        running = read_version();
        tokens.clear();
        server.listen(Number(port), '127.0.0.1');
    }, 500);
}

function logged_in(req) {
    const token = /^Bearer (\S+)$/.exec(req.headers.authorization || '')?.[1];
    return tokens.has(token);
}

const app = express();
app.disable('x-powered-by');
app.use(session({name: 'amplifier', secret: 'made up', resave: false, saveUninitialized: false,
                 cookie: {httpOnly: true, sameSite: 'strict', maxAge: 60000}}));
app.get('/identity', (req, res) => res.json({order: 'TS-1', hardware: '3', serial: 'W-1'}));
app.get('/status', (req, res) => res.json({firmware: running, starts, ...writing}));
app.get('/login', (req, res) => {
    req.session.csrf ??= crypto.randomBytes(16).toString('hex');
    res.send(`<form method="post"><input name="user"><input name="password" type="password">
              <input type="hidden" name="csrf" value="${req.session.csrf}"><button>Log in</button></form>`);
});
app.post('/login', express.urlencoded({extended: false}), (req, res) => {
    if (!req.session.csrf || req.body.csrf !== req.session.csrf) return res.status(403).send('form out of date');
    if (req.body.user !== user || req.body.password !== password) return res.status(401).send('wrong user or password');
    req.session.regenerate(() => { // a new session: the old cookie is no longer good
        Object.assign(req.session, {user, csrf: crypto.randomBytes(16).toString('hex')});
        res.set('X-CSRF-Token', req.session.csrf).redirect(303, '/status');
    });
});
function by_form(req, res, next) {
    if (!req.session.user) return res.redirect(302, '/login');
    if (req.get('X-CSRF-Token') !== req.session.csrf) return res.status(403).json({error: 'csrf'});
    next();
}
const upload = multer({storage: multer.memoryStorage(), limits: {fileSize: limit, files: 1}});
app.post('/update', by_form, upload.single('image'), (req, res) => {
    if (!req.file || req.body.kind !== 'firmware') return res.status(400).json({error: 'kind or image is missing'});
    res.status(install(req.file.buffer) ? 202 : 409).json({bytes: req.file.size});
});
app.post('/token', express.json(), (req, res) => {
    if (req.body?.user !== user || req.body?.password !== password) return res.status(401).json({error: 'login'});
    const token = crypto.randomBytes(24).toString('base64url');
    tokens.set(token, true);
    res.json({access_token: token, token_type: 'Bearer'});
});
// What can be said of an upload from its head.
function head(req) {
    if (!logged_in(req)) return 401;
    if (!('content-length' in req.headers)) return 411;
    return Number(req.headers['content-length']) > limit ? 413 : 0;
}
app.put(['/image', '/unexpected/image'], (req, res) => {
    const status = head(req);
    if (status) return res.set('Connection', 'close').status(status).end();
    const parts = [];
    req.on('data', (part) => parts.push(part));
    req.on('end', () => res.status(install(Buffer.concat(parts)) ? 202 : 409).end());
});
function by_token(req, res, next) {
    if (!logged_in(req)) return res.status(401).end();
    next();
}
function keep(next) {
    settings = next;
    fs.writeFileSync(kept, JSON.stringify(settings));
}
app.get('/settings', by_token, (req, res) => res.json(settings));
app.put('/settings', by_token, express.json(), (req, res) => {
    const wanted = {...settings, ...req.body};
    if (typeof wanted.gain !== 'number' || wanted.gain > 60) return res.status(400).json({error: 'gain'});
    keep({...wanted, name: String(wanted.name).slice(0, 12)});
    res.json(settings);
});
app.put('/password', by_token, express.json(), (req, res) => {
    if (req.body.old !== password || String(req.body.new).length < 8) return res.status(400).json({error: 'password'});
    password = req.body.new;
    tokens.clear();
    res.status(204).end();
});
app.post('/factory-reset', by_token, (req, res) => {
    keep({...delivered});
    res.status(202).end();
    setTimeout(restart, 50);
});
app.post('/restart', (req, res, next) => (logged_in(req) ? next() : by_form(req, res, next)), (req, res) => {
    res.status(202).end();
    setTimeout(restart, 50);
});
app.use((error, req, res, next) => res.status(error.code === 'LIMIT_FILE_SIZE' ? 413 : 400).json({error: error.message}));

const server = require('http').createServer(app);
server.on('checkContinue', (req, res) => {
    console.log(`expects ${req.url}`);
    const status = req.url.startsWith('/unexpected') ? 417 : req.method === 'PUT' ? head(req) : 0;
    if (status) return res.writeHead(status, {Connection: 'close'}).end();
    res.writeContinue();
    app(req, res);
});
server.listen(Number(port), '127.0.0.1');
process.on('SIGTERM', () => process.exit(0));
