#pragma once
#include <cstddef>
#include <cstdint>

namespace heron {

/// Sets `marks` of those among `count` places that lie at most `reach` columns and rows from (x, y); others
/// keep theirs. Up to 64 bytes behind the last place are read, so they must exist. Cost: about a
/// nanosecond a place.
void mark_near(const int32_t* columns, const int32_t* rows, size_t count, int x, int y, int reach,
               int32_t* marks);
void mark_near_plain(const int32_t* columns, const int32_t* rows, size_t count, int x, int y, int reach,
                     int32_t* marks);

}  // namespace heron
