// Which volumes a swept disk has, with what is in them, into its catalog: those that the table
// names, lost ones, those of an earlier life of the disk, those without a head; and what else was
// found.
//
// Thread-safety: one thread.
#pragma once

#include <string>

#include "catalog/catalog.h"
#include "lantern/nest/session.h"
#include "lantern/sweep.h"
#include "recover/sweep/finders/all_finders.h"

namespace lantern {

// Anew, whatever an earlier run had listed; what is left then are files by their content. All or
// nothing is written. Throws Error{cannot_write, stopped}.
void list_volumes(const DiskLayer& disk, Catalog& catalog, const Finders& finders,
                  const SweepOptions& options, const Session& session, const Context& context);

// Of a volume, below the catalog.
std::string address_of(const std::string& catalog, const CatalogVolume& volume);

}  // namespace lantern
