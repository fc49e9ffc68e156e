// What each container format can have written again. `place`: the file as it lies ("...::bytes").
//
// Thread-safety: one thread a diagnosis.
#pragma once

#include "repair/diagnose/diagnosis.h"

namespace lantern::repair {

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

// A block table of any of them, of which blocks themselves say where they belong.
void diagnose_block_table(const SourcePtr& file, const std::string& place, Diagnosis& diagnosis,
                          const Context& context);

// A parent that lies under another name than the image has for it.
void diagnose_reference(const Address& address, const SourcePtr& file, const std::string& place,
                        Diagnosis& diagnosis, const Context& context);

// A step that makes one stretch of a file what it should be; nothing when it is.
void propose_bytes(Diagnosis& diagnosis, std::string code, Certainty certainty, std::string what,
                   std::string evidence, const std::string& place, const ByteSource& file,
                   std::uint64_t at, ByteView right);

// A figure of a header, and whether what stands there may stay.
struct HeaderFigure {
  std::size_t at = 0, bytes = 0;
  const char* name = "";
  bool right = false;
};

// A header of which only a few figures are wrong: they alone are taken from the one rebuilt.
// False: none is wrong, or too many are for the rest to be believed.
bool propose_figures(Diagnosis& diagnosis, std::string code, std::string evidence,
                     const std::string& place, const ByteSource& file, ByteView stored,
                     ByteView made, const std::vector<HeaderFigure>& figures);

}  // namespace lantern::repair
