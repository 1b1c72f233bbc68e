#include "sent_picture.hpp"

#include "heron/base/error.hpp"
#include "heron/files/picture_file.hpp"

namespace heron {

Picture decode_sent(std::string_view bytes, const std::string& camera) {
  try {
    return decode_picture(bytes, camera);
  } catch (const Error& error) {
    throw Error(ErrorCode::no_connection, error.what());
  }
}

}  // namespace heron
