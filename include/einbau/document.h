/* Reading single values out of a JSON document (RFC 8259) by their place (JSON Pointer, RFC 6901), and out of
 * text or HTML behind a mark, both as a stream: a document may be of any length and come in any slices. */
#ifndef EINBAU_DOCUMENT_H
#define EINBAU_DOCUMENT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

enum {
    EB_JSON_DEPTH_MAX = 16, /* documents of devices have three or four levels */
    EB_JSON_PATH_BYTES = 128,
    EB_TAG_BYTES = 320 /* of one tag of HTML: longer ones are passed over */
};

/* One reader; its members are its own but for `failed` and `whole`. */
struct eb_json {
    /* Called for each text, number, true, false and null: its pointer, and its text (UTF-8, as it would be
     * shown; not checked).  `cut`: it is longer than the buffer. */
    void (*value)(void *context, const char *pointer, const char *text, bool cut);
    void *context;
    char *text; /* the caller's buffer for one value */
    size_t cap;
    size_t size;
    bool cut;
    bool failed; /* it is no JSON, or deeper than EB_JSON_DEPTH_MAX */
    bool whole;  /* the one value of the document has ended */

    uint8_t state, depth, literal, escape_digits;
    bool path_lost; /* the path is longer than EB_JSON_PATH_BYTES: values below it are not reported */
    uint16_t path_size, code, high;
    char path[EB_JSON_PATH_BYTES];
    struct {
        bool object;
        uint16_t path_size; /* of the place of this object or array */
        uint32_t index;
    } levels[EB_JSON_DEPTH_MAX];
};

/* Begins a document; `text` (at least 2 bytes) is borrowed until the end. */
void eb_json_begin(struct eb_json *json, char *text, size_t cap,
                   void (*value)(void *context, const char *pointer, const char *text, bool cut),
                   void *context);
/* Takes the next bytes in; after `failed` they are ignored. */
void eb_json_take(struct eb_json *json, const uint8_t *bytes, size_t size);
/* The document is at its end: a number that ends with it is reported.  False: it failed, or something is
 * missing.
 */
bool eb_json_end(struct eb_json *json);

/* What stands behind a mark in text or HTML. */
struct eb_mark_reader {
    const char *mark;  /* empty: at the beginning */
    const char *until; /* characters that end the text; line ends, '<' and '"' where NULL */
    char *text;        /* the caller's buffer */
    size_t cap, size;
    size_t matched; /* characters of the mark */
    bool found, done;
};
/* Begins; all is borrowed until the end. */
void eb_mark_begin(struct eb_mark_reader *reader, const char *mark, const char *until, char *text,
                   size_t cap);
/* Takes the next bytes in.  The text is complete once `done`, and at the end of the document; one that does
 * not fit is empty. Blanks around it are left out. */
void eb_mark_take(struct eb_mark_reader *reader, const uint8_t *bytes, size_t size);
/* The document is at its end. */
void eb_mark_end(struct eb_mark_reader *reader);

/* The value of one input of an HTML form: what a page hides a token in. */
struct eb_input_reader {
    const char *name;
    char *text; /* the caller's buffer; empty: not found, or longer */
    size_t cap;
    bool done, in_tag;
    size_t size;
    char tag[EB_TAG_BYTES];
};
/* Begins; name and buffer are borrowed until the end. */
void eb_input_begin(struct eb_input_reader *reader, const char *name, char *text, size_t cap);
/* Takes the next bytes in. */
void eb_input_take(struct eb_input_reader *reader, const uint8_t *bytes, size_t size);

#ifdef __cplusplus
}
#endif

#endif
