// What a finder keeps of one kind: in order, and no more than it may.
//
// Thread-safety: one thread.
#pragma once

#include <algorithm>
#include <cstddef>
#include <utility>
#include <vector>

namespace lantern {

template <typename T>
class Kept {
 public:
  static constexpr std::size_t kMax = 1u << 20;

  void add(T one) {
    if (all_.size() < kMax)
      all_.push_back(std::move(one));
    else
      capped_ = true;
  }
  void join(const Kept& later) {
    const std::size_t room = std::min(kMax - all_.size(), later.all_.size());
    all_.insert(all_.end(), later.all_.begin(),
                later.all_.begin() + static_cast<std::ptrdiff_t>(room));
    capped_ = capped_ || later.capped_ || room < later.all_.size();
  }
  const std::vector<T>& all() const { return all_; }
  bool capped() const { return capped_; }  // there were more

  // Calls use(each) for those that were added since the last call.
  template <typename Use>
  void each_new(Use use) {
    for (; written_ < all_.size(); ++written_) use(all_[written_]);
  }

 private:
  std::vector<T> all_;
  std::size_t written_ = 0;
  bool capped_ = false;
};

}  // namespace lantern
