#pragma once
#include <string>
#include <string_view>

#include "heron/image/picture.hpp"

namespace heron {

/// The picture in what a camera sent. What is no picture, or half of one, is a failure of the connection:
/// the next one may be whole. Throws Error{no_connection}.
Picture decode_sent(std::string_view bytes, const std::string& camera);

}  // namespace heron
