// Package layout reads and writes OCI image layouts (image-spec, "OCI Image
// Layout Specification"), as folders and as tars, and reads the tars that
// container engines save. Nothing in a layout is believed: content is named by
// digest and whoever takes it checks it.
package layout
