"""What computes the network: ONNX Runtime on processors, torch on a GPU or where there is nothing else."""
