// The newer server's sparse extent; its layout is in sparse.h.
#pragma once

#include "container/vmdk/sparse.h"

namespace lantern {

// `header`: the first 512 bytes. Empty when it is not one. Throws Error{cannot_read}.
std::optional<VmdkSparse> open_vmdk_server_sparse(const SourcePtr& file, ByteView header,
                                                  const Context& context);

}  // namespace lantern
