# Where a machine builds once (WEXLO_TOGETHER), files are compiled together: the headers and the
# standard library's templates are most of what a file costs.

# The group of each of a target's files, in `of`: at most `most` of one folder are compiled together.
function(wexlo_groups of most)
  set(groups)
  foreach(source IN LISTS ARGN)
    get_filename_component(folder "${source}" ABSOLUTE)
    get_filename_component(folder "${folder}" DIRECTORY)
    get_filename_component(room "${folder}" NAME)
    list(APPEND files_of_${room} ${source})
    list(LENGTH files_of_${room} count)
    math(EXPR part "(${count} - 1) / ${most}")
    list(APPEND groups ${room}_${part})
  endforeach()
  set(${of} ${groups} PARENT_SCOPE)
endfunction()

function(wexlo_together target most)
  if(NOT WEXLO_TOGETHER)
    return()
  endif()
  set_target_properties(${target} PROPERTIES UNITY_BUILD ON UNITY_BUILD_MODE GROUP)
  # A file's own types are seen in another file's headers then, which is meant.
  target_compile_options(${target} PRIVATE -Wno-subobject-linkage)
  wexlo_groups(groups ${most} ${ARGN})
  foreach(source group IN ZIP_LISTS ARGN groups)
    set_source_files_properties(${source} PROPERTIES UNITY_GROUP ${group})
  endforeach()
endfunction()
