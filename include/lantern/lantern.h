// Nest Lantern: opens dead disks without harming them, and brings the files back.
// This header includes all of the library.
#pragma once

#include "lantern/address.h"
#include "lantern/byte_source.h"
#include "lantern/container.h"
#include "lantern/context.h"
#include "lantern/error.h"
#include "lantern/extraction.h"
#include "lantern/failing_source.h"
#include "lantern/file_system.h"
#include "lantern/finding.h"
#include "lantern/host.h"
#include "lantern/identity.h"
#include "lantern/imaging.h"
#include "lantern/json.h"
#include "lantern/nest.h"
#include "lantern/range.h"
#include "lantern/sources.h"
#include "lantern/survey.h"
#include "lantern/text.h"
#include "lantern/timestamp.h"
#include "lantern/volume_table.h"
