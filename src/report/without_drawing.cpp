// In place of drawing/ in a build without cairo.
#include "lantern/error.h"
#include "lantern/report/disk_picture.h"

namespace lantern {

void draw(const DiskPicture& /*picture*/, const std::string& file) {
  throw Error(ErrorCode::unsupported, file, std::nullopt, "this build draws no pictures",
              "build it with LANTERN_PICTURES");
}

}  // namespace lantern
