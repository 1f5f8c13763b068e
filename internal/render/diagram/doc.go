// Package draw makes the diagram of a plan: the outside at the top, appliances
// as gates below it, the segments inside as bars and guests below those. A
// picture is laid out once, as boxes, lines and texts with places and sizes,
// and written as SVG, PNG or PDF; Text draws the same tree for a terminal.
//
// A layout keeps every text apart from every other and inside what it belongs
// to: texts are measured with the font that they are drawn with.
package diagram
