#pragma once
#include <string>

namespace heron {

/// Keeps other programs out of a store's folder, as long as this one runs, whatever ends it. Throws
/// Error{not_writable} when another has it.
class FolderLock {
 public:
  explicit FolderLock(const std::string& folder);
  ~FolderLock();
  FolderLock(const FolderLock&) = delete;
  FolderLock& operator=(const FolderLock&) = delete;

 private:
  int fd_ = -1;
};

}  // namespace heron
