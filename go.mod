module fencepost

go 1.26.8
