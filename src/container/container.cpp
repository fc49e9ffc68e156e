#include "container/container.h"

#include "container/vdi.h"

namespace lantern {

Container open_container(const SourcePtr& file, const Context& context) {
  if (auto vdi = open_vdi(file, context)) return *vdi;
  return {"raw", {}, file, file->size(), {}};
}

}  // namespace lantern
