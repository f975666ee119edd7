from django.apps import AppConfig


class OperationConfig(AppConfig):
    name = "didactor.operation"
    verbose_name = "Keeping the service"
