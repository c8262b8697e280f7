/* Numbers by a key: what would otherwise be searched for among all of them. */
#ifndef EBI_SIM_TABLE_H
#define EBI_SIM_TABLE_H

#include <stddef.h>
#include <stdint.h>

/* A number stands under one key only; keys may share a chain, so that what is found is to be compared. */
struct ebi_sim_table {
    uint32_t *heads; /* one more than the number; 0: none */
    unsigned bits;   /* of their number */
    uint32_t *next;  /* by number */
    size_t cap;
};

#define EBI_SIM_NONE SIZE_MAX

/* For about so many numbers; more only take longer. */
void ebi_sim_table_open(struct ebi_sim_table *table, size_t expected);
/* Behind those that the key has already. */
void ebi_sim_table_add(struct ebi_sim_table *table, uint32_t key, size_t number);
void ebi_sim_table_remove(struct ebi_sim_table *table, uint32_t key, size_t number);
size_t ebi_sim_table_first(const struct ebi_sim_table *table, uint32_t key);
size_t ebi_sim_table_next(const struct ebi_sim_table *table, size_t number);
void ebi_sim_table_clear(struct ebi_sim_table *table);

#endif
