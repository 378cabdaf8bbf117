# wexlo_embed(TARGET NAME HEADER_VARIABLE FILE...): makes files part of a program, as byte arrays in a
# generated source with one lookup function, `std::string_view NAME(std::string_view file_name)`.
set(WEXLO_EMBED_SCRIPT ${CMAKE_CURRENT_LIST_DIR}/embed_files.cmake)

function(wexlo_embed target function_name)
  set(output ${CMAKE_CURRENT_BINARY_DIR}/${function_name}.cpp)
  list(JOIN ARGN "|" files)
  add_custom_command(
    OUTPUT ${output}
    COMMAND ${CMAKE_COMMAND} -DOUTPUT=${output} -DFUNCTION=${function_name} "-DFILES=${files}"
            -P ${WEXLO_EMBED_SCRIPT}
    DEPENDS ${ARGN} ${WEXLO_EMBED_SCRIPT}
    VERBATIM)
  target_sources(${target} PRIVATE ${output})
endfunction()
