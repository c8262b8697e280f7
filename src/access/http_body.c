/* What a request to a device's web server carries: its path and its body. */
#include "access/http.h"
#include "einbau/text.h"

#include <string.h>

static const char boundary[] = "----einbau-7f3a9c51d20b4e86";

const char *ebi_http_method_word(uint8_t method)
{
    static const char *const words[] = {"POST", "PUT", "GET", "DELETE"};
    return words[method];
}

/* A text of the profile, with what stands for the component's names. */
static void add_filled(struct eb_text *to, const char *text, const struct eb_operation *o)
{
    static const char send_as[] = "{send-as}";
    static const char component[] = "{component}";
    while (*text != '\0') {
        bool file = o != NULL && o->component != NULL && strncmp(text, send_as, sizeof send_as - 1) == 0;
        bool name = o != NULL && o->component != NULL && strncmp(text, component, sizeof component - 1) == 0;
        if (file || name) {
            eb_text_add(to, file ? ebi_file_name(o) : o->component->name);
            text += file ? sizeof send_as - 1 : sizeof component - 1;
        } else { /* up to the next brace; texts are cut between characters only */
            char run[64];
            size_t size = 1 + strcspn(text + 1, "{");
            if (size >= sizeof run) {
                size = sizeof run - 1;
                while (size > 1 && ((unsigned char)text[size] & 0xC0) == 0x80)
                    size--;
            }
            memcpy(run, text, size);
            run[size] = '\0';
            eb_text_add(to, run);
            text += size;
        }
    }
}

static void add_part(struct eb_text *to, const char *name)
{
    eb_text_add(to, "--");
    eb_text_add(to, boundary);
    eb_text_add(to, "\r\nContent-Disposition: form-data; name=\"");
    eb_text_add(to, name);
    eb_text_add(to, "\"");
}

static void add_form_part(struct eb_text *to, const char *name, const char *text,
                          const struct eb_operation *o)
{
    add_part(to, name);
    eb_text_add(to, "\r\n\r\n");
    add_filled(to, text, o);
    eb_text_add(to, "\r\n");
}

/* RFC 7578 */
bool ebi_http_upload_body(ebi_http *h)
{
    const struct eb_http_way *way = ebi_http_way(h);
    const struct eb_operation *o = &h->operation;
    const char *type = way->type != NULL ? way->type : "application/octet-stream";
    struct eb_http_request *r = &h->request;
    struct eb_text head;
    struct eb_text text;
    r->has_body = true;
    r->fresh = true;
    r->expect = way->asks_first && !h->without_expect;
    r->source = h->operation.source;
    if (way->field == NULL) {
        ebi_http_add_field(h, "Content-Type", type);
        return true;
    }
    eb_text_init(&head, h->head, sizeof h->head);
    for (size_t i = 0; i < way->fields.count; i++)
        add_form_part(&head, way->fields.list[i].name, way->fields.list[i].text, o);
    if (way->hidden != NULL && way->token_field == NULL && h->token[0] != '\0')
        add_form_part(&head, way->hidden, h->token, NULL);
    add_part(&head, way->field);
    eb_text_add(&head, "; filename=\"");
    eb_text_add(&head, ebi_file_name(o));
    eb_text_add(&head, "\"\r\nContent-Type: ");
    eb_text_add(&head, type);
    eb_text_add(&head, "\r\n\r\n");
    r->head = h->head;
    r->head_bytes = head.size;
    eb_text_init(&text, h->tail, sizeof h->tail);
    eb_text_add(&text, "\r\n--");
    eb_text_add(&text, boundary);
    eb_text_add(&text, "--\r\n");
    r->tail = h->tail;
    r->tail_bytes = text.size;
    eb_text_init(&text, h->type, sizeof h->type);
    eb_text_add(&text, "multipart/form-data; boundary=");
    eb_text_add(&text, boundary);
    ebi_http_add_field(h, "Content-Type", h->type);
    return !head.cut;
}

void ebi_http_store_body(ebi_http *h)
{
    const struct eb_http_document *document = h->operation.step->more;
    h->request.has_body = h->request.fresh = true;
    h->request.source = h->operation.source;
    ebi_http_add_field(h, "Content-Type",
                       document->type != NULL ? document->type : "application/octet-stream");
}

static bool is_plain_json(const char *text)
{
    uint64_t number;
    return strcmp(text, "true") == 0 || strcmp(text, "false") == 0 || strcmp(text, "null") == 0 ||
           eb_text_number(text, strlen(text), &number);
}

bool ebi_http_step_body(ebi_http *h, const struct eb_http_step *step)
{
    struct eb_text body;
    eb_text_init(&body, h->head, sizeof h->head);
    for (size_t i = 0; i < step->json.count; i++) {
        const struct eb_pair *pair = &step->json.list[i];
        const char *quote = is_plain_json(pair->text) ? "" : "\"";
        eb_text_add(&body, i > 0 ? ",\"" : "{\"");
        eb_http_add_json(&body, pair->name);
        eb_text_add(&body, "\":");
        eb_text_add(&body, quote);
        eb_http_add_json(&body, pair->text);
        eb_text_add(&body, quote);
    }
    eb_text_add(&body, step->json.count > 0 ? "}" : "");
    for (size_t i = 0; i < step->fields.count; i++) {
        eb_text_add(&body, i > 0 ? "&" : "");
        eb_http_add_form(&body, step->fields.list[i].name);
        eb_text_add(&body, "=");
        eb_http_add_form(&body, step->fields.list[i].text);
    }
    if (ebi_http_way(h)->hidden != NULL && ebi_http_way(h)->token_field == NULL && h->token[0] != '\0' &&
        step->json.count == 0 && step->method == EB_HTTP_POST) {
        eb_text_add(&body, body.size > 0 ? "&" : "");
        eb_http_add_form(&body, ebi_http_way(h)->hidden);
        eb_text_add(&body, "=");
        eb_http_add_form(&body, h->token);
    }
    h->request.has_body = step->method == EB_HTTP_POST || step->method == EB_HTTP_PUT;
    h->request.head = h->head;
    h->request.head_bytes = body.size;
    if (body.size > 0)
        ebi_http_add_field(h, "Content-Type",
                           step->json.count > 0 ? "application/json" : "application/x-www-form-urlencoded");
    return !body.cut;
}

/* Where the request of a call goes; a redirect has its own. */
void ebi_http_choose_path(ebi_http *h)
{
    const struct eb_http_way *way = ebi_http_way(h);
    struct eb_text path;
    char *to;
    const char *text = way->page;
    if (h->call == EBI_CALL_VALUES)
        text = ebi_value_at(h->contact, h->place, &to)->path;
    else if (h->call == EBI_CALL_STEP)
        text = ((const struct eb_http_step *)h->operation.step->more)->path;
    else if (h->call == EBI_CALL_UPLOAD || (h->call == EBI_CALL_PROBE && way->page == NULL))
        text = way->path;
    else if (h->call == EBI_CALL_FETCH || h->call == EBI_CALL_STORE) {
        const struct eb_http_document *document = h->operation.step->more;
        text = h->call == EBI_CALL_STORE && document->put_to != NULL ? document->put_to : document->path;
    } else if (h->call == EBI_CALL_PROGRESS)
        text = h->follow[0] != '\0' ? h->follow : way->progress;
    else if (h->call == EBI_CALL_LOG_IN)
        text = way->log_in != NULL ? way->log_in : way->page;
    eb_text_init(&path, h->path, sizeof h->path);
    if (text != NULL)
        add_filled(&path, text, &h->operation);
}
