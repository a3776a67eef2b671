"""What fills the screen: the views and the panels that open over them."""
