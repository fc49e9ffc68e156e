// A QCOW2 whose header or level 1 table is corrupt: level 2 tables are found by their shape, and
// placed by evidence from what lies inside the disk.
#pragma once

#include <optional>

#include "container/mend.h"
#include "container/qcow/header.h"

namespace lantern {

// The figures of a header that is lost: a level 1 table near the start of the file, all of whose
// entries lead to level 2 tables. Empty when there is none. The disk's size is that of the last
// cluster in use.
std::optional<Qcow2Header> guess_qcow2_header(const ByteSource& file, const Context& context);

// `file` with the level 1 table mended in memory: loose level 2 tables put where evidence says, and
// entries that cannot be believed made ones that lead nowhere. `file` itself when nothing is wrong.
// `map`: of the disk as the file has it.
SourcePtr mend_level1(const SourcePtr& file, const Qcow2Header& header,
                      const std::vector<Qcow2Snapshot>& snapshots,
                      std::shared_ptr<const BlockMap> map, const Surroundings& around,
                      const Context& context);

// `map` with clusters placed by evidence where level 2 tables are corrupt, and with what they no
// longer speak of lost. For a disk that lies on no other. `file`: with its level 1 table mended.
std::shared_ptr<const BlockMap> mend_level2(const SourcePtr& file, const Qcow2Header& header,
                                            const std::vector<Qcow2Snapshot>& snapshots,
                                            std::shared_ptr<const BlockMap> map,
                                            const Surroundings& around, const Context& context);

}  // namespace lantern
