from django.urls import path

from didactor.practice import views

app_name = "practice"
urlpatterns = [
    path("<int:pk>/", views.crossing, name="crossing"),
    path("<int:pk>/state/", views.state, name="state"),
    path("<int:pk>/begin/", views.begin, name="begin"),
    path("<int:pk>/by-hand/", views.by_hand, name="by_hand"),
    path("<int:pk>/take-back/", views.take_back, name="take_back"),
    path("<int:pk>/remedy/", views.remedy, name="remedy"),
    path("<int:pk>/habit/", views.habit, name="habit"),
    path("<int:pk>/model/", views.model, name="model"),
    path("<int:pk>/drills/", views.drills, name="drills"),
    path("<int:pk>/drills/<slug:kind>/", views.drill, name="drill"),
    path("<int:pk>/touched/", views.touched, name="touched"),
    path("warm-up/<int:pk>/", views.warm_up, name="warm_up"),
    path("reading/<int:pk>/", views.reading, name="reading"),
    path("reading/<int:pk>/next/", views.next_line, name="new_line"),
    path("attempts/<uuid:pk>/", views.piece, name="piece"),
    path("attempts/<uuid:pk>/sound/", views.sound, name="sound"),
]
