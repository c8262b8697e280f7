/* libcurl brings some thirty libraries along, which take longer to load than most commands run: it is loaded
 * when the first exchange begins. */
#ifndef EBI_CURL_H
#define EBI_CURL_H

#define CURL_DISABLE_TYPECHECK
#include <curl/curl.h>

#define EBI_CURL_FUNCTIONS(row)                                                                              \
    row(curl_easy_cleanup) row(curl_easy_getinfo) row(curl_easy_init) row(curl_easy_perform)                 \
        row(curl_easy_setopt) row(curl_global_cleanup) row(curl_global_init) row(curl_multi_add_handle)      \
            row(curl_multi_assign) row(curl_multi_cleanup) row(curl_multi_info_read) row(curl_multi_init)    \
                row(curl_multi_remove_handle) row(curl_multi_setopt) row(curl_multi_socket_action)           \
                    row(curl_slist_append) row(curl_slist_free_all)
/* NOLINTNEXTLINE(bugprone-macro-parentheses): it is a declaration */
#define EBI_CURL_MEMBER(name) __typeof__(name) *name;

struct ebi_curl {
    EBI_CURL_FUNCTIONS(EBI_CURL_MEMBER)
};

/* Its functions; NULL: the library is not there. */
const struct ebi_curl *ebi_curl(void);

#endif
