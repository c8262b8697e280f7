#include "einbau/record.h"
#include "yaml_read.h"

#include <string.h>

static const char *const words[EB_CONFIG_KEYS] = {
    [EB_CONFIG_SITE] = "site",     [EB_CONFIG_SHELF] = "shelf",       [EB_CONFIG_STATE] = "state",
    [EB_CONFIG_RECORD] = "record", [EB_CONFIG_KEY_FILE] = "key-file", [EB_CONFIG_SIM] = "sim"};

const char *eb_config_word(enum eb_config_key key)
{
    return words[key];
}

bool eb_config_read(const char *path, struct eb_config *config, struct eb_problem *problem)
{
    struct ebi_yaml yaml = {.tell = NULL};
    memset(config, 0, sizeof *config);
    if (!ebi_yaml_open(&yaml, path, problem))
        return false;
    struct ebi_yaml_map map = ebi_yaml_map(&yaml, ebi_yaml_root(&yaml));
    for (size_t i = 0; i < EB_CONFIG_KEYS; i++) {
        char text[EB_PATH_BYTES] = "";
        ebi_yaml_text(&map, words[i], false, text, sizeof text);
        if (i == EB_CONFIG_RECORD && eb_record_is_server(text))
            eb_text_copy(config->paths[i], EB_PATH_BYTES, text);
        else if (text[0] != '\0')
            ebi_path_beside(path, text, config->paths[i]);
    }
    ebi_yaml_map_end(&map);
    ebi_yaml_close(&yaml);
    return !yaml.failed;
}
