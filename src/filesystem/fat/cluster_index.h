// ClusterIndexer: one walk over all of a FAT volume that learns which clusters belong to whom, and
// places the clusters of files whose chain is gone. Everything it finds stays in the Layout.
#pragma once

#include "filesystem/fat/layout.h"

namespace lantern::fat {

Layout index_clusters(const Disk& disk);

}  // namespace lantern::fat
