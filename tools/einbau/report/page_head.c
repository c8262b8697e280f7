/* The style of a report, and the symbols that it uses. */
#include "report/page.h"

#include <string.h>

static const char *const style[] = {
    ":root{color-scheme:light dark;--paper:#fff;--ink:#1b2027;--soft:#545d68;--line:#c8ced5;--tint:#f2f4f5;"
    "--good:#0a6a50;--warn:#875200;--bad:#a51024;--send:#2d5c9c;--activate:#783e8c;--return:#2a7780;--quiet:#"
    "76808a;"
    "--manual:#a85f00}",
    "@media screen and "
    "(prefers-color-scheme:dark){:root{--paper:#14171b;--ink:#e6e9ec;--soft:#a8b1ba;--line:#3a424a;"
    "--tint:#1d2228;--good:#58c8a2;--warn:#e6a848;--bad:#ff8a90;--send:#6c9fe0;--activate:#c68cda;--return:#"
    "62bcc6;"
    "--quiet:#8a949e;--manual:#e6a848}}",
    "*{box-sizing:border-box}",
    "html{background:var(--paper);color:var(--ink);font:15px/1.45 \"DejaVu Sans\",system-ui,sans-serif}",
    "body{max-width:62rem;margin:0 auto;padding:1.5rem 1.5rem 3rem}",
    "h1{font-size:1.5rem;line-height:1.2;margin:0 0 .2rem}",
    "h2{font-size:1.1rem;margin:2.2rem 0 .5rem;break-after:avoid}",
    "p{margin:.3rem 0 .6rem;max-width:54rem}",
    ".spoken{position:absolute;clip-path:inset(50%);width:1px;height:1px;overflow:hidden}",
    ".soft,small{color:var(--soft)}small{font-size:.85em}",
    "code{font:.88em \"DejaVu Sans Mono\",ui-monospace,monospace;overflow-wrap:anywhere}",
    "dl{display:grid;grid-template-columns:1fr 1.4fr 1.4fr 1.2fr;gap:.6rem 1.5rem;margin:1rem 0;"
    "border-block:1px solid var(--line);padding:.7rem 0}dt{color:var(--soft);font-size:.85em}dd{margin:0;"
    "overflow-wrap:anywhere}",
    ".answer{font-size:1.3rem;font-weight:bold;margin:1.2rem 0 .2rem}",
    "table{border-collapse:collapse;width:100%;font-size:.9em}",
    "caption{text-align:left;color:var(--soft);padding-bottom:.4rem}",
    "th,td{text-align:left;vertical-align:top;padding:.35rem .8rem .35rem 0;border-bottom:1px solid "
    "var(--line)}",
    "thead th{color:var(--soft);font-weight:normal;border-bottom:1.5px solid var(--ink)}",
    "tr,.keep{break-inside:avoid}tr.group th{background:var(--tint);padding-left:.4rem;break-after:avoid}",
    "tr.group span{font-weight:normal;color:var(--soft);margin-left:.8em}",
    ".n,.o{white-space:nowrap}.o svg{width:1.05em;height:1.05em;vertical-align:-.17em;margin-right:.35em}",
    ".confirmed,.up-to-date,.recovered,.put-back,.done{color:var(--good)}",
    ".refused,.manual-step,.interrupted,.not-started,.card-written{color:var(--warn)}.failed,.in-loader,."
    "unreachable{color:"
    "var(--bad)}.planned{color:var(--send)}",
    "figure{margin:0;overflow-x:auto}figure>svg{display:block;width:100%;min-width:44rem;height:auto}",
    ".legend{color:var(--soft);font-size:.9em;display:flex;flex-wrap:wrap;gap:.2rem 1.2rem;margin:.5rem "
    "0;padding:0;"
    "list-style:none}.legend>li>svg{width:2em;height:.8em;margin-right:.4em;vertical-align:-.05em}",
    "figure text{font-size:11px;fill:var(--ink)}figure .note,figure .sub{font-size:10px;fill:var(--soft)}",
    ".on{stroke:var(--paper);stroke-width:5;paint-order:stroke}.grid text{fill:var(--soft)}",
    ".grid path{stroke:var(--line);stroke-width:.6}.check{fill:var(--ink)}.prepare{fill:url(#p-prepare);"
    "stroke:var(--quiet);stroke-width:.8}.send{fill:var(--send)}.activate{fill:url(#p-activate);"
    "stroke:var(--activate);stroke-width:.8}.return{fill:url(#p-return);stroke:var(--return);stroke-width:."
    "8}",
    ".manual{fill:url(#p-manual);stroke:var(--manual);stroke-width:.8}.wait{stroke:var(--quiet);fill:none}",
    ".crit{stroke:var(--ink);stroke-width:2.4;fill:none}.retry{fill:var(--bad)}",
    ".site text{text-anchor:middle}.site .l{text-anchor:start}.site .b{font-weight:bold}",
    ".link{stroke:var(--ink);stroke-width:1.6;fill:none}.drop{stroke:var(--ink);stroke-width:.8;fill:none}",
    ".box{fill:var(--tint);stroke:var(--ink)}",
    ".serials{columns:4;font-size:.85em;padding:0;list-style:none}.serials li{break-inside:avoid}",
    ".sign{display:grid;grid-template-columns:1fr 1fr;gap:3rem;break-inside:avoid;margin-top:1rem}"
    ".sign div{border-top:1px solid var(--ink);margin-top:4rem;padding-top:.3rem}",
    "footer{margin-top:2.5rem;border-top:1px solid "
    "var(--line);padding-top:.6rem;font-size:.88em;break-inside:avoid}",
    "@media screen and (max-width:44rem){dl{grid-template-columns:1fr 1fr}section{overflow-x:auto}"
    ".sign{grid-template-columns:1fr;gap:0}.serials{columns:2}}",
    "@media print{:root{color-scheme:light}html{font-size:9.2pt}body,p{max-width:none}body{padding:0}"
    "th,td{padding-block:.22rem;padding-right:.6rem}figure>svg{min-width:0}figure{overflow:visible;break-"
    "inside:avoid}"
    "h2{margin-top:1.6rem}.fresh{break-before:page}*{print-color-adjust:exact}}",
};

static const char *const symbols[] = {
    "<symbol id=\"confirmed\" viewBox=\"0 0 20 20\" class=\"confirmed\"><circle cx=\"10\" cy=\"10\" r=\"9\" "
    "fill=\"currentColor\"/><path d=\"M5.5 10.5l3 3 6-7\" fill=\"none\" stroke=\"var(--paper)\" "
    "stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"up-to-date\" viewBox=\"0 0 20 20\" class=\"up-to-date\"><circle cx=\"10\" cy=\"10\" "
    "r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M5.5 10.5l3 3 6-7\" fill=\"none\" "
    "stroke=\"currentColor\" stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"planned\" viewBox=\"0 0 20 20\" class=\"planned\"><circle cx=\"10\" cy=\"10\" r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M10 5v8M6.5 10l3.5 3.5 3.5-3.5\" "
    "fill=\"none\" "
    "stroke=\"currentColor\" stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"unreachable\" viewBox=\"0 0 20 20\" class=\"unreachable\"><rect x=\"1.5\" y=\"1.5\" "
    "width=\"17\" "
    "height=\"17\" fill=\"none\" stroke=\"currentColor\" stroke-width=\"2.2\"/><path d=\"M6 6l8 8M14 6l-8 "
    "8\" "
    "stroke=\"currentColor\" stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"recovered\" viewBox=\"0 0 20 20\" class=\"recovered\"><circle cx=\"10\" cy=\"10\" r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M8 5.5l6 4.5-6 4.5z\" "
    "fill=\"currentColor\"/></symbol>",
    "<symbol id=\"put-back\" viewBox=\"0 0 20 20\" class=\"put-back\"><circle cx=\"10\" cy=\"10\" r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M8 5.5l6 4.5-6 4.5z\" "
    "fill=\"currentColor\"/></symbol>",
    "<symbol id=\"done\" viewBox=\"0 0 20 20\" class=\"done\"><circle cx=\"10\" cy=\"10\" r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M6 10.5l3 3 5.5-6.5\" fill=\"none\" "
    "stroke=\"currentColor\" stroke-width=\"2\"/></symbol>",
    "<symbol id=\"refused\" viewBox=\"0 0 20 20\" class=\"refused\"><rect x=\"1.5\" y=\"1.5\" width=\"17\" "
    "height=\"17\" fill=\"none\" stroke=\"currentColor\" stroke-width=\"2.2\"/><path d=\"M5 10H15\" "
    "stroke=\"currentColor\" stroke-width=\"3\"/></symbol>",
    "<symbol id=\"failed\" viewBox=\"0 0 20 20\" class=\"failed\"><rect x=\"1\" y=\"1\" width=\"18\" "
    "height=\"18\" "
    "fill=\"currentColor\"/><path d=\"M5.5 5.5l9 9M14.5 5.5l-9 9\" stroke=\"var(--paper)\" "
    "stroke-width=\"2.4\"/></symbol>",
    "<symbol id=\"in-loader\" viewBox=\"0 0 20 20\" class=\"in-loader\"><path d=\"M10 0L20 18.5H0z\" "
    "fill=\"currentColor\"/><path d=\"M10 6.5V12M10 14v2.2\" stroke=\"var(--paper)\" "
    "stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"manual-step\" viewBox=\"0 0 20 20\" class=\"manual-step\"><path d=\"M10 1l9 9-9 9-9-9z\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2.2\"/><path d=\"M10 5.5V11M10 12.6v2\" "
    "stroke=\"currentColor\" stroke-width=\"2.2\"/></symbol>",
    "<symbol id=\"card-written\" viewBox=\"0 0 20 20\" class=\"card-written\"><path d=\"M3 1h9l5 5v13H3z\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M6.5 4.5v4M10 4.5v4\" "
    "stroke=\"currentColor\" stroke-width=\"2\"/></symbol>",
    "<symbol id=\"interrupted\" viewBox=\"0 0 20 20\" class=\"interrupted\"><circle cx=\"10\" cy=\"10\" "
    "r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\"/><path d=\"M7.5 6v8M12.5 6v8\" "
    "stroke=\"currentColor\" "
    "stroke-width=\"2.4\"/></symbol>",
    "<symbol id=\"not-started\" viewBox=\"0 0 20 20\" class=\"not-started\"><circle cx=\"10\" cy=\"10\" "
    "r=\"8\" "
    "fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\" stroke-dasharray=\"3 2.4\"/></symbol>",
    "<pattern id=\"p-prepare\" width=\"3\" height=\"4\" patternUnits=\"userSpaceOnUse\"><path d=\"M1.5 0V4\" "
    "stroke=\"var(--quiet)\" stroke-width=\"1.6\"/></pattern>",
    "<pattern id=\"p-activate\" width=\"4\" height=\"4\" patternUnits=\"userSpaceOnUse\" "
    "patternTransform=\"rotate(45)\"><path d=\"M0 2H4\" stroke=\"var(--activate)\" "
    "stroke-width=\"2\"/></pattern>",
    "<pattern id=\"p-return\" width=\"4\" height=\"4\" patternUnits=\"userSpaceOnUse\"><circle cx=\"2\" "
    "cy=\"2\" "
    "r=\"1\" fill=\"var(--return)\"/></pattern>",
    "<pattern id=\"p-manual\" width=\"5\" height=\"5\" patternUnits=\"userSpaceOnUse\" "
    "patternTransform=\"rotate(45)\"><path d=\"M0 2.5H5M2.5 0V5\" stroke=\"var(--manual)\" "
    "stroke-width=\"1.2\"/></pattern>",
};

/* A text inside quotes of the style: nothing that would end them. */
static void put_quoted(const struct page *p, const char *text)
{
    for (; *text != '\0'; text++) {
        if (strchr("\"\\<>{};\n", *text) == NULL)
            fputc(*text, p->to);
    }
}

static void title_text(const struct past *past, char *text, size_t cap)
{
    if (past->plan)
        snprintf(text, cap, W_PLAN_TITLE, past->job.site);
    else
        snprintf(text, cap, W_TITLE_JOB, past->job.site, (long long)past->job.number);
}

static void put_margins(const struct page *p)
{
    static const char font[] = "font:8pt \"DejaVu Sans\",sans-serif;color:#545d68";
    const struct past *past = p->past;
    char text[EB_NAME_BYTES + 64];
    size_t good = 0;
    for (size_t i = 0; i < past->count; i++)
        good += past_is_good(&past->devices[i]);
    fputs("@page{size:A4;margin:18mm 14mm 16mm;@top-left{content:\"", p->to);
    title_text(past, text, sizeof text);
    put_quoted(p, text);
    fprintf(p->to, "\";%s}@top-right{content:\"", font);
    snprintf(text, sizeof text, past->plan ? W_PLAN_SHORT : W_SHORT_RESULT, good, past->count);
    put_quoted(p, text);
    fprintf(p->to, "\";%s}", font);
    if (!past->plan)
        fprintf(p->to, "@bottom-left{content:\"" W_RECORD "\";%s}", past->digest, font);
    fprintf(p->to,
            "@bottom-right{content:\"" W_PAGE_OF " \" counter(page) \" " W_OF " \" counter(pages);%s}}\n",
            font);
}

void page_head(const struct page *p)
{
    fputs("<!doctype html>\n<html lang=\"" W_LANGUAGE "\">\n<head>\n<meta charset=\"utf-8\">\n"
          "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
          "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src "
          "'unsafe-inline'\">\n"
          "<title>",
          p->to);
    char title[EB_NAME_BYTES + 64];
    title_text(p->past, title, sizeof title);
    page_text(p, title);
    fputs("</title>\n<style>\n", p->to);
    for (size_t i = 0; i < sizeof style / sizeof style[0]; i++)
        fprintf(p->to, "%s\n", style[i]);
    put_margins(p);
    fputs("</style>\n</head>\n<body>\n<svg width=\"0\" height=\"0\" style=\"position:absolute\" "
          "aria-hidden=\"true\"><defs>\n",
          p->to);
    for (size_t i = 0; i < sizeof symbols / sizeof symbols[0]; i++)
        fprintf(p->to, "%s\n", symbols[i]);
    fputs("</defs></svg>\n", p->to);
}
