// What the members of arrays and groups have lost of their own heads: superblocks, labels and
// headers that their siblings or copies prove. File systems in them are diagnosed like any other.
//
// Thread-safety: one thread a diagnosis.
#pragma once

#include <string>
#include <vector>

#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {

// The arrays and groups that a target lies on, each once.
std::vector<const SpannedSets::Set*> sets_below(const Target& target);

struct SetDiagnosis {
  const SpannedSets& all;
  const SpannedSets::Set& set;
  Diagnosis& diagnosis;
  const Context& context;
};

// "array data", "group skerrow".
std::string name_of(const SpannedSets::Set& set);
// Volumes of the disks of a job that no set has and in which nothing is recognised, but for a head
// of `format` whose sum is wrong. `with_files`: those in which a file system begins as well.
std::vector<VolumePtr> unclaimed(const SpannedSets& all, std::string_view format, bool with_files);
// The bytes a member is written through; empty: they are not those it is read through, as where it
// is encrypted.
SourcePtr own_bytes(const LayerPtr& member);

void diagnose_array(const SetDiagnosis& of);
void diagnose_group(const SetDiagnosis& of);
// Of every set below the target; where it cannot be opened (empty), of all that `source` can mean.
void diagnose_sets(const Target* target, const Address& source, const Session& session,
                   Diagnosis& diagnosis);

}  // namespace lantern::repair
