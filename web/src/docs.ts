import "rapidoc";
