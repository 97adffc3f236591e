"""Routes as data with their access rule, the OpenAPI document out of them, who is acting, pages of lists, errors."""
