// What each container format can have written again. `place`: the file as it lies ("...::bytes").
//
// Thread-safety: one thread a diagnosis.
#pragma once

#include "repair/diagnose/diagnosis.h"

namespace lantern {

void diagnose_vhd(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& context);
void diagnose_vhdx(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                   const Context& context);
void diagnose_vdi(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                  const Context& context);
void diagnose_vmdk(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                   const Context& context);
void diagnose_qcow2(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                    const Context& context);

// A parent that lies under another name than the image has for it.
void diagnose_reference(const Address& address, const SourcePtr& file, const std::string& place,
                        Diagnosis& diagnosis, const Context& context);

// A step that makes one stretch of a file what it should be; nothing when it is.
void propose_bytes(Diagnosis& diagnosis, std::string code, Certainty certainty, std::string what,
                   std::string evidence, const std::string& place, const ByteSource& file,
                   std::uint64_t at, ByteView right);

}  // namespace lantern
