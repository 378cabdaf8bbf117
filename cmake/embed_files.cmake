# Called at build time by wexlo_embed: writes OUTPUT from FILES (joined with |).
string(REPLACE "|" ";" files "${FILES}")
set(arrays "")
set(rows "")
set(number 0)
foreach(file IN LISTS files)
  file(READ ${file} hex HEX)
  string(REGEX REPLACE "([0-9a-f][0-9a-f])" "0x\\1," bytes "${hex}")
  get_filename_component(name ${file} NAME)
  string(APPEND arrays "constexpr unsigned char kFile${number}[] = {${bytes}0};\n")
  string(APPEND rows
         "  if (name == \"${name}\") return {reinterpret_cast<const char*>(kFile${number}), sizeof kFile${number} - 1};\n")
  math(EXPR number "${number} + 1")
endforeach()
file(WRITE ${OUTPUT} "#include <string_view>
namespace wexlo::embedded {
namespace {
${arrays}}  // namespace
std::string_view ${FUNCTION}(std::string_view name);
std::string_view ${FUNCTION}(std::string_view name) {
${rows}  return {};
}
}  // namespace wexlo::embedded
")
