#include "table.h"

#include <stdlib.h>

void ebi_sim_table_open(struct ebi_sim_table *table, size_t expected)
{
    *table = (struct ebi_sim_table){.bits = 5};
    while (table->bits < 20 && (size_t)1 << table->bits < 2 * expected)
        table->bits++;
    table->heads = calloc((size_t)1 << table->bits, sizeof *table->heads);
    if (table->heads == NULL)
        abort(); /* a simulation without memory has nothing to say */
}

static uint32_t *head_of(const struct ebi_sim_table *table, uint32_t key)
{
    /* the golden ratio scatters keys that follow each other */
    return &table->heads[key * 2654435761U >> (32 - table->bits)];
}

void ebi_sim_table_add(struct ebi_sim_table *table, uint32_t key, size_t number)
{
    if (number >= table->cap) {
        table->cap = 2 * number + 64;
        table->next = realloc(table->next, table->cap * sizeof *table->next);
        if (table->next == NULL)
            abort();
    }
    uint32_t *at = head_of(table, key);
    while (*at != 0)
        at = &table->next[*at - 1];
    *at = (uint32_t)number + 1;
    table->next[number] = 0;
}

void ebi_sim_table_remove(struct ebi_sim_table *table, uint32_t key, size_t number)
{
    uint32_t *at = head_of(table, key);
    while (*at != 0 && *at != number + 1)
        at = &table->next[*at - 1];
    if (*at != 0)
        *at = table->next[number];
}

size_t ebi_sim_table_first(const struct ebi_sim_table *table, uint32_t key)
{
    return (size_t)*head_of(table, key) - 1;
}

size_t ebi_sim_table_next(const struct ebi_sim_table *table, size_t number)
{
    return (size_t)table->next[number] - 1;
}

void ebi_sim_table_clear(struct ebi_sim_table *table)
{
    free(table->heads);
    free(table->next);
}
