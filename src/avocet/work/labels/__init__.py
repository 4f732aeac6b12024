"""What people say of pictures: boxes, classes, attributes, and every change with its way back."""
